import { Fragment } from "react";
import type { Holding, Table } from "../../api/client";
import { usePreview } from "../../api/queries";
import { useProject } from "../../desk/context";
import { numbersOf } from "../../desk/tables";
import { Button } from "../../ui/Button";
import { Field } from "../Field";
import type { Work } from "../useWorksheet";
import { pointsAsked } from "./pointsAsked";
import { type Model, VariogramChart } from "./VariogramChart";

interface Found {
  distances: number[];
  values: number[];
  pairs: number[];
  fitted: Record<Model, { nugget: number; sill: number; range: number }>;
}

const foundIn = (table: Table | null | undefined): Found | null =>
  table
    ? {
        distances: numbersOf(table, "distance"),
        values: numbersOf(table, "semivariance"),
        pairs: numbersOf(table, "pairs"),
        fitted: table.facts.fitted as Found["fitted"],
      }
    : null;

const rounded = (value: number) => Number(value.toPrecision(3));

/** Kriging's settings: the variogram of the points with the model that is used, to be dragged or typed. */
export function Kriging({ work, points }: { work: Work<"interpolate_points">; points: Holding | undefined }) {
  const { params, given, setParams } = work;
  const project = useProject();
  const { data } = usePreview(
    project.id,
    points && project.role !== "viewer"
      ? { operation: "variogram", params: pointsAsked(given), inputs: { points: points.id } }
      : null,
  );
  const found = foundIn(data?.table);
  const model: Model = params.variogram;
  const fitted = found?.fitted[model];
  const used = fitted && {
    nugget: params.nugget ?? fitted.nugget,
    sill: params.sill ?? fitted.sill,
    range: params.range ?? fitted.range,
  };
  const own = params.nugget !== null || params.sill !== null || params.range !== null;
  const fit = { nugget: null, sill: null, range: null };
  return (
    <>
      <Field work={work} name="variogram" also={() => fit} />
      {found && used && (
        <VariogramChart
          found={found}
          model={model}
          used={used}
          onDrag={({ nugget, sill, range }) =>
            setParams({ nugget: rounded(nugget), sill: rounded(sill), range: rounded(range) })
          }
        />
      )}
      {(["range", "sill", "nugget"] as const).map((name) => (
        <Fragment key={name}>
          <Field work={work} name={name} placeholder={fitted ? `${rounded(fitted[name])}, fitted` : "fitted"} />
        </Fragment>
      ))}
      {own && (
        <p className="times">
          <Button kind="link" onClick={() => setParams(fit)}>
            Back to the fitted model
          </Button>
        </p>
      )}
      <Field work={work} name="kriging" />
      {params.kriging === "simple" && <Field work={work} name="kriging_mean" />}
      {work.output === "uncertainty" && (
        <>
          <Field work={work} name="error_of" />
          <p className="hint">
            {params.error_of === "measurement" ? "It holds the nugget." : "It does not hold the nugget."}
          </p>
        </>
      )}
      <Field work={work} name="kriging_neighbours" />

      <Field work={work} name="direction" />
      <Field work={work} name="ratio" />
    </>
  );
}
