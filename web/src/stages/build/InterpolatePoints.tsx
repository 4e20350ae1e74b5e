import { useEffect } from "react";
import { useHeld, useProject } from "../../desk/context";
import { num, size } from "../../desk/format";
import { Beside, Choice, Findings, HoldingChoice, has, NameRow, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useWorksheet } from "../useWorksheet";
import { FacetsSwitch } from "./FacetsSwitch";
import { Kriging } from "./Kriging";
import { LeftOut } from "./LeftOut";
import { Methods } from "./Methods";
import { Smoothing } from "./Smoothing";

const METHODS: [string, string, string][] = [
  ["triangulation", "Triangulation", "Flat facets between neighbouring points; exact at every point."],
  [
    "natural_neighbour",
    "Natural neighbour",
    "A mean of the neighbours, weighted by the ground each would lose; exact at every point and smooth between.",
  ],
  ["inverse_distance", "Inverse distance", "A mean of the nearest points, nearer ones weighing more."],
  ["spline", "Spline", "The smoothest surface through the points, drawn tighter or looser between them."],
  ["kriging", "Kriging", "The likeliest height from how heights differ with distance, with its own error."],
  ["nearest", "Nearest", "Each cell takes the height of its nearest point."],
];
const DUPLICATES = [
  { value: "mean", title: "their mean" },
  { value: "first", title: "the first one" },
  { value: "lowest", title: "the lowest" },
  { value: "highest", title: "the highest" },
];

const SECTORS = [
  { value: "1", title: "all around, the nearest" },
  { value: "4", title: "4 sectors alike" },
  { value: "8", title: "8 sectors alike" },
];
const RESULTS = [
  { value: "height", title: "heights" },
  { value: "uncertainty", title: "their standard error too" },
  { value: "distance", title: "distance to a point too" },
];

const BREAKLINES = [
  { value: "hard", title: "hard, edges of facets" },
  { value: "soft", title: "soft, points along them" },
];

/** Survey points to a surface: what goes in, how, findings, preview and run. */
export function InterpolatePoints() {
  const project = useProject();
  const { points, features } = useHeld();
  const work = useWorksheet("interpolate_points", ["points"]);
  const { params, setParams, setInput } = work;
  const chosen = points.find((one) => one.id === work.inputs.points);
  const first = points.find((one) => one.id !== project.checkpoints_id) ?? points[0];
  useEffect(() => {
    if (!chosen && first) {
      setInput("points", first.id);
      if (params.reach_limit === undefined) setParams({ reach_limit: 60 });
    }
  }, [chosen, first, params.reach_limit, setInput, setParams]);

  const method = (params.method as string) ?? "triangulation";
  const sectors = (params.sectors as number) ?? 1;
  const lines = features.filter((one) => has(one, "lines") || has(one, "polygons"));
  const areas = features.filter((one) => has(one, "polygons"));
  const codes = Object.entries(chosen?.points?.codes ?? {}).filter(([code]) => code !== "");
  const used = (params.codes as string[] | undefined) ?? codes.map(([code]) => code);
  const toggle = (code: string) => {
    const next = used.includes(code) ? used.filter((one) => one !== code) : [...used, code];
    setParams({ codes: next.length === codes.length ? null : next });
  };
  const usedCount = codes.length
    ? codes.filter(([code]) => used.includes(code)).reduce((sum, [, count]) => sum + count, 0)
    : (chosen?.points?.count ?? 0);
  const title = METHODS.find(([name]) => name === method)?.[1] ?? "";
  const name = work.sheet.name || (chosen ? `${title} of ${chosen.name}` : "");

  return (
    <Sheet stage="Build" title="Interpolate points" foot={<RunFoot work={work} name={name} />}>
      <Section
        title="What goes in"
        aside={
          chosen?.points && (
            <>
              <span className="n">{num(usedCount)}</span> of <span className="n">{num(chosen.points.count)}</span>{" "}
              points
            </>
          )
        }
      >
        <HoldingChoice
          label="Points"
          holdings={points}
          value={chosen?.id}
          onChange={(id) => {
            setInput("points", id);
            if (params.codes) setParams({ codes: null });
          }}
        />
        {points.length === 0 && (
          <p className="mut" style={{ fontSize: 12, marginTop: 4 }}>
            Add a CSV of points in Gather first.
          </p>
        )}
        {chosen?.points && (
          <div className="row" style={{ minHeight: 20 }}>
            <span className="lab">Heights</span>
            <span style={{ fontSize: 12 }}>
              <span className="n">{chosen.points.height_field}</span>, in {chosen.points.unit}
            </span>
          </div>
        )}
        <LeftOut
          points={chosen?.id}
          places={(params.left_out as [number, number][] | undefined) ?? []}
          onChange={(left_out) => setParams({ left_out })}
        />
        {lines.length > 0 && <Beside label="Breaklines" input="breaklines" holdings={lines} work={work} />}
        {Array.isArray(work.inputs.breaklines) && work.inputs.breaklines.length > 0 && (
          <Choice
            label="They are"
            value={String(params.breaklines_are ?? "hard")}
            options={BREAKLINES}
            onChange={(breaklines_are) => setParams({ breaklines_are })}
          />
        )}
        {areas.length > 0 && (
          <>
            <Beside label="Lakes" input="lakes" holdings={areas} work={work} />
            <Beside label="Area" input="area" holdings={areas} work={work} none="the frame" />
          </>
        )}
        {codes.length > 1 && (
          <div className="checks" role="group" aria-label="Codes to use">
            {codes.map(([code, count]) => (
              <label className="ck" key={code}>
                <input type="checkbox" checked={used.includes(code)} onChange={() => toggle(code)} />
                {code}
                <span className="n">{num(count)}</span>
              </label>
            ))}
          </div>
        )}
      </Section>
      <Section title="How">
        <Methods
          methods={METHODS}
          value={method}
          onChange={(next) => {
            setParams({ method: next });
            if (work.output === "uncertainty") work.setOutput(null);
          }}
        />
        {method === "inverse_distance" && (
          <>
            <div className="row two">
              <NumberField
                label="Power"
                value={(params.power as number) ?? 2}
                onChange={(power) => setParams({ power })}
              />
              <NumberField
                label="Neighbours"
                value={(params.neighbours as number) ?? 12}
                onChange={(neighbours) => setParams({ neighbours })}
              />
            </div>
            <div className="row two">
              <NumberField
                label="Radius"
                unit="m"
                placeholder="any"
                value={params.search_radius as number | null}
                onChange={(search_radius) => setParams({ search_radius })}
              />
            </div>
            <Choice
              label="Taken from"
              value={String(sectors)}
              options={SECTORS}
              onChange={(sectors) => setParams({ sectors: Number(sectors) })}
            />
            {sectors > 1 && (
              <p className="hint">
                <span className="n">{Math.ceil(((params.neighbours as number) ?? 12) / sectors)}</span> of each sector,
                if it has so many.
              </p>
            )}
          </>
        )}
        {method === "spline" && (
          <>
            <div className="row two">
              <NumberField
                label="Tension"
                value={(params.tension as number) ?? 2}
                onChange={(tension) => setParams({ tension })}
              />
              <NumberField
                label="Smoothing"
                value={(params.smoothing as number) ?? 0.01}
                onChange={(smoothing) => setParams({ smoothing })}
              />
            </div>
            {params.tension === 0 && <p className="hint">No tension: a thin plate, from all points at once.</p>}
            <Smoothing points={chosen} params={params} setParams={setParams} />
          </>
        )}
        {method === "kriging" && (
          <Kriging points={chosen} params={params} setParams={setParams} error={work.output === "uncertainty"} />
        )}
        <div className="row two">
          <NumberField
            label="Reach limit"
            unit="m"
            placeholder="none"
            value={params.reach_limit as number | null}
            onChange={(reach_limit) => setParams({ reach_limit })}
          />
          {(method === "triangulation" || method === "natural_neighbour") && (
            <NumberField
              label="Edge limit"
              unit="m"
              placeholder="none"
              value={params.edge_limit as number | null}
              onChange={(edge_limit) => setParams({ edge_limit })}
            />
          )}
        </div>
        <Choice
          label="Duplicates"
          value={(params.duplicates as string) ?? "mean"}
          options={DUPLICATES}
          onChange={(duplicates) => setParams({ duplicates })}
        />
        <div className="row two">
          <NumberField
            label="Cell size"
            unit="m"
            placeholder={`${size(project.frame.cell_size)}, the frame's`}
            value={params.cell_size as number | null}
            onChange={(cell_size) => setParams({ cell_size })}
          />
        </div>
        <Choice
          label="Gives"
          value={work.output ?? "height"}
          options={RESULTS.filter((one) => one.value !== "uncertainty" || method === "kriging")}
          onChange={(next) => work.setOutput(next === "height" ? null : next)}
        />
        <label className="ck one">
          <input
            type="checkbox"
            checked={(params.whole as boolean | undefined) ?? false}
            onChange={(event) => setParams({ whole: event.target.checked })}
          />
          Heights in whole {chosen?.points?.unit === "m" || !chosen ? "metres" : chosen.points?.unit}
        </label>
        {method === "triangulation" && <FacetsSwitch />}
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
