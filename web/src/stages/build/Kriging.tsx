import type { Holding, Table } from "../../api/client";
import { usePreview } from "../../api/queries";
import { useProject } from "../../desk/context";
import { numbersOf } from "../../desk/tables";
import { Choice, NumberField } from "../parts";
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

const MODELS = [
  { value: "spherical", title: "spherical" },
  { value: "exponential", title: "exponential" },
  { value: "gaussian", title: "Gaussian" },
  { value: "matern", title: "Matérn, 3/2" },
];

const MEANS = [
  { value: "ordinary", title: "unknown (ordinary)" },
  { value: "simple", title: "known (simple)" },
];
const ERRORS = [
  { value: "surface", title: "the ground" },
  { value: "measurement", title: "a measurement" },
];

const rounded = (value: number) => Number(value.toPrecision(3));

/** Kriging's settings: the variogram of the points with the model that is used, to be dragged or typed. */
export function Kriging(props: {
  points: Holding | undefined;
  params: Record<string, unknown>;
  setParams: (values: Record<string, unknown>) => void;
  /** Whether its standard error is looked at. */
  error: boolean;
}) {
  const { points, params, setParams, error } = props;
  const project = useProject();
  const { data } = usePreview(
    project.id,
    points && project.role !== "viewer"
      ? { operation: "variogram", params: pointsAsked(params), inputs: { points: points.id } }
      : null,
  );
  const found = foundIn(data?.table);
  const model = ((params.variogram as string) ?? "spherical") as Model;
  const fitted = found?.fitted[model];
  const used = fitted && {
    nugget: (params.nugget as number | null) ?? fitted.nugget,
    sill: (params.sill as number | null) ?? fitted.sill,
    range: (params.range as number | null) ?? fitted.range,
  };
  const own = params.nugget != null || params.sill != null || params.range != null;
  const placeholder = (value: number | undefined) => (value === undefined ? "fitted" : `${rounded(value)}, fitted`);
  return (
    <>
      <Choice
        label="Variogram"
        value={model}
        options={MODELS}
        onChange={(variogram) => setParams({ variogram, nugget: null, sill: null, range: null })}
      />
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
      <div className="row two">
        <NumberField
          label="Range"
          unit="m"
          placeholder={placeholder(fitted?.range)}
          value={params.range as number | null}
          onChange={(range) => setParams({ range })}
        />
      </div>
      <div className="row two">
        <NumberField
          label="Sill"
          unit="m²"
          placeholder={placeholder(fitted?.sill)}
          value={params.sill as number | null}
          onChange={(sill) => setParams({ sill })}
        />
      </div>
      <div className="row two">
        <NumberField
          label="Nugget"
          unit="m²"
          placeholder={placeholder(fitted?.nugget)}
          value={params.nugget as number | null}
          onChange={(nugget) => setParams({ nugget })}
        />
      </div>
      {own && (
        <p className="times">
          <button type="button" className="lnk" onClick={() => setParams({ nugget: null, sill: null, range: null })}>
            Back to the fitted model
          </button>
        </p>
      )}
      <Choice
        label="Mean height"
        value={(params.kriging as string) ?? "ordinary"}
        options={MEANS}
        onChange={(kriging) => setParams({ kriging })}
      />
      {params.kriging === "simple" && (
        <div className="row two">
          <NumberField
            label="Mean"
            unit="m"
            placeholder="of the points"
            value={params.kriging_mean as number | null}
            onChange={(kriging_mean) => setParams({ kriging_mean })}
          />
        </div>
      )}
      {error && (
        <>
          <Choice
            label="Error from"
            value={(params.error_of as string) ?? "surface"}
            options={ERRORS}
            onChange={(error_of) => setParams({ error_of })}
          />
          <p className="hint">
            {params.error_of === "measurement" ? "It holds the nugget." : "It does not hold the nugget."}
          </p>
        </>
      )}
      <div className="row two">
        <NumberField
          label="Neighbours"
          value={(params.kriging_neighbours as number) ?? 16}
          onChange={(kriging_neighbours) => setParams({ kriging_neighbours })}
        />
      </div>
      <div className="row two">
        <NumberField
          label="Direction"
          unit="°"
          value={(params.direction as number) ?? 0}
          onChange={(direction) => setParams({ direction })}
        />
        <NumberField label="Ratio" value={(params.ratio as number) ?? 1} onChange={(ratio) => setParams({ ratio })} />
      </div>
    </>
  );
}
