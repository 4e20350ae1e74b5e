import { useMemo, useState } from "react";
import { choicesOf } from "../../api/operations";
import { capital, num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import { pressable } from "../../ui/pressable";
import { Section } from "../../ui/Sheet";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useFacts } from "../useFacts";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { DistanceChart, METHOD_INKS } from "./DistanceChart";
import { LeftOut } from "./LeftOut";
import { Suspects } from "./Suspects";
import styles from "./whichMethod.module.css";

export interface Comparison {
  methods: Record<
    string,
    {
      figures: {
        count: number;
        unused: number;
        mean: number;
        rmse: number;
        nmad: number;
        le95: number;
        lowest: number;
        highest: number;
      } | null;
      seconds: number;
    }
  >;
  distance_ends: number[];
  by_distance: Record<string, (number | null)[]>;
  folds: number;
  points: [number, number][];
  errors: Record<string, (number | null)[]>;
  unit: string;
  block: number | null;
}

const NAMES = Object.fromEntries(
  choicesOf("interpolate_points", "method").map(({ value, title }) => [value, capital(title)]),
);

/** Leave-out errors of every method on the same points, and where each of them errs. */
export function WhichMethod() {
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  const work = useWorksheet("which_method");
  const { params, setParams } = work;
  const { chosen } = useRole(work, "points");
  const [shown, setShown] = useState<string | null>(null);

  const found = useFacts<Comparison>(work);
  const leftOut = params.left_out;
  const listed = Object.entries(found?.methods ?? {}).sort(
    (one, other) => (one[1].figures?.rmse ?? Infinity) - (other[1].figures?.rmse ?? Infinity),
  );
  const best = listed[0]?.[0];
  const mapped = shown && found?.methods[shown] ? shown : best;
  const marks = useMemo(() => {
    if (!found || !mapped) return null;
    const errors = found.errors[mapped] ?? [];
    const size = 2.5 * (found.methods[mapped]?.figures?.nmad ?? 1) || 1;
    return found.points.map(([x, y], i) => ({ x, y, share: errors[i] == null ? null : (errors[i] ?? 0) / size }));
  }, [found, mapped]);
  useOverlay("errors", marks);

  const errors = found && (
    <Section key="errors" title="Errors" aside={`${num(found.points.length)} points, ${num(found.folds)} parts`}>
      <table className="t tight methods-table" aria-label="Errors of every method">
        <thead>
          <tr>
            <th className="w">method</th>
            <th title="Root mean square error">RMSE</th>
            <th title="Normalised median absolute deviation: spread without the outliers">NMAD</th>
            <th title="Wall time of all predictions">time</th>
          </tr>
        </thead>
        <tbody>
          {listed.map(([name, { figures, seconds }]) => (
            <tr
              key={name}
              className={name === mapped ? "goes on" : "goes"}
              aria-selected={name === mapped}
              {...pressable(() => setShown(name))}
            >
              <td className="w">
                <i className={styles.swatch} style={{ background: METHOD_INKS[name] }} />
                {NAMES[name]}
              </td>
              {figures ? (
                <>
                  <td className="n">{num(figures.rmse, 2)}</td>
                  <td className="n">{num(figures.nmad, 2)}</td>
                </>
              ) : (
                <td colSpan={2} className="mut">
                  predicted nothing
                </td>
              )}
              <td className="n">{num(seconds, seconds < 10 ? 2 : 0)} s</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mut small-print">
        In {found.unit}. On the map: errors of {NAMES[mapped ?? ""]}, too high brown, too low blue, full at{" "}
        <span className="n">{num(2.5 * (found.methods[mapped ?? ""]?.figures?.nmad ?? 0), 2)}</span> {found.unit}.
        {(found.methods[mapped ?? ""]?.figures?.unused ?? 0) > 0 && (
          <>
            {" "}
            <span className="n">{num(found.methods[mapped ?? ""]?.figures?.unused ?? 0)}</span> points lie outside what
            it fills.
          </>
        )}
      </p>
      <DistanceChart ends={found.distance_ends} curves={found.by_distance} unit={found.unit} />
      {mapped && (
        <Suspects
          found={found}
          method={mapped}
          onLeaveOut={(places) => setParams({ left_out: [...leftOut, ...places] })}
        />
      )}
      {mapped && (
        <div className="acts">
          <Button
            onClick={() => {
              sheet("interpolate_points", {
                inputs: { points: chosen?.id ?? 0 },
                params: { method: mapped, reach_limit: 60, stray_points: "leave_out", left_out: leftOut },
                name: "",
              });
              open("Build", "interpolate_points");
            }}
          >
            Interpolate with {NAMES[mapped]?.toLowerCase()}
          </Button>
        </div>
      )}
    </Section>
  );
  return (
    <OperationSheet
      work={work}
      name={`Which method for ${chosen?.name}`}
      lead="Every method predicts points it was not given; what it misses by is its error."
      foot={{ action: "Compare methods", makes: null, made: () => null }}
      parts={[
        {
          title: "What goes in",
          of: [
            <RoleField key="points" work={work} input="points" onChosen={() => setParams({ codes: null })} />,
            <Field key="scheme" work={work} name="scheme" also={() => ({ block: null })} />,
            <LeftOut key="left out" places={leftOut} onChange={(places) => setParams({ left_out: places })} />,
            "folds",
            "block",
          ],
        },
      ]}
      after={errors}
    />
  );
}
