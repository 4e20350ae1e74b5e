import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, type Table } from "../../api/client";
import { isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Choice, Findings, HoldingChoice, NumberField, Section, Sheet } from "../parts";
import { useWorksheet } from "../useWorksheet";
import { DistanceChart, METHOD_INKS } from "./DistanceChart";
import { LeftOut } from "./LeftOut";
import { Suspects } from "./Suspects";

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

const NAMES: Record<string, string> = {
  triangulation: "Triangulation",
  natural_neighbour: "Natural neighbour",
  inverse_distance: "Inverse distance",
  spline: "Spline",
  kriging: "Kriging",
  nearest: "Nearest",
};
const SCHEMES = [
  { value: "random", title: "at random" },
  { value: "blocks", title: "square blocks" },
  { value: "each", title: "each point alone" },
];

/** Leave-out errors of every method on the same points, and where each of them errs. */
export function WhichMethod() {
  const project = useProject();
  const { points } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const set = useDesk((desk) => desk.set);
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  const work = useWorksheet("which_method", ["points"]);
  const { params, setParams, setInput } = work;
  const [shown, setShown] = useState<string | null>(null);
  const chosen = points.find((one) => one.id === work.inputs.points);
  const first = points.find((one) => one.id !== project.checkpoints_id) ?? points[0];
  useEffect(() => {
    if (!chosen && first) setInput("points", first.id);
  }, [chosen, first, setInput]);

  const job = jobs.find((one) => one.id === work.made?.job?.id) ?? work.made?.job;
  const running = job ? isOpen(job) : false;
  const held = work.made?.holding_id ?? (job?.state === "done" ? job.holding_id : null);
  const { data: found } = useQuery({
    queryKey: ["table", project.id, held],
    queryFn: () => call<Table>("GET", `/projects/${project.id}/holdings/${held}/table`),
    enabled: held != null,
    staleTime: Infinity,
    select: (table) => table.facts as unknown as Comparison,
  });
  const leftOut = (params.left_out as [number, number][] | undefined) ?? [];
  const scheme = (params.scheme as string) ?? "random";
  const listed = Object.entries(found?.methods ?? {}).sort(
    (one, other) => (one[1].figures?.rmse ?? Infinity) - (other[1].figures?.rmse ?? Infinity),
  );
  const best = listed[0]?.[0];
  const mapped = shown && found?.methods[shown] ? shown : best;
  useEffect(() => {
    if (!found || !mapped) return;
    const errors = found.errors[mapped] ?? [];
    const size = 2.5 * (found.methods[mapped]?.figures?.nmad ?? 1) || 1;
    set({
      errors: found.points.map(([x, y], i) => ({ x, y, share: errors[i] == null ? null : (errors[i] ?? 0) / size })),
    });
    return () => set({ errors: [] });
  }, [found, mapped, set]);

  const stopped = work.preview?.findings.some((finding) => finding.weight === "stop");
  return (
    <Sheet
      stage="Build"
      title="Which method?"
      lead="Every method predicts points it was not given; what it misses by is its error."
      foot={
        <>
          {(work.refused || work.failed || job?.state === "failed") && (
            <p className="said">
              <span className="err" role="alert">
                {work.refused ?? work.failed ?? job?.message}
              </span>
            </p>
          )}
          <div className="go">
            <span className="mut">{running ? `${num(100 * (job?.progress ?? 0))} % done` : ""}</span>
            <button
              type="button"
              className="primary"
              disabled={!chosen || !work.canRun || stopped || running || work.starting}
              onClick={() => work.run(`Which method for ${chosen?.name}`)}
            >
              Compare methods
            </button>
          </div>
        </>
      }
    >
      <Section title="What goes in">
        <HoldingChoice
          label="Points"
          holdings={points}
          value={chosen?.id}
          onChange={(id) => {
            setInput("points", id);
            setParams({ codes: null });
          }}
        />
        <Choice
          label="Left out"
          value={scheme}
          options={SCHEMES}
          onChange={(next) => setParams({ scheme: next, block: null })}
        />
        <LeftOut places={leftOut} onChange={(places) => setParams({ left_out: places })} />
        {scheme !== "each" && (
          <div className="row two">
            <NumberField
              label="Parts"
              value={(params.folds as number) ?? 10}
              onChange={(folds) => setParams({ folds })}
            />
            {scheme === "blocks" && (
              <NumberField
                label="Side"
                unit="m"
                placeholder="usual"
                value={params.block as number | null}
                onChange={(block) => setParams({ block })}
              />
            )}
          </div>
        )}
      </Section>
      {found && (
        <Section title="Errors" aside={`${num(found.points.length)} points, ${num(found.folds)} parts`}>
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
                  onClick={() => setShown(name)}
                >
                  <td className="w">
                    <i className="swatch" style={{ background: METHOD_INKS[name] }} />
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
                <span className="n">{num(found.methods[mapped ?? ""]?.figures?.unused ?? 0)}</span> points lie outside
                what it fills.
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
              <button
                type="button"
                className="btn"
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
              </button>
            </div>
          )}
        </Section>
      )}
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
