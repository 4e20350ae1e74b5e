import { useEffect } from "react";
import type { Holding } from "../../api/client";
import { useHeld, useProject } from "../../desk/context";
import { num, size } from "../../desk/format";
import { Beside, Choice, Findings, HoldingChoice, has, NameRow, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useWorksheet } from "../useWorksheet";
import { FacetsSwitch } from "./FacetsSwitch";
import { Methods } from "./Methods";

const METHODS: [string, string, string][] = [
  ["spline", "Spline", "A smooth surface bent to contours, spots, streams and lakes; water can leave it."],
  ["triangulation", "Triangulation", "Facets between contours, with ridges and valleys put where they were flat."],
];
const NONE = "named";

/** What of the lines is most likely contours: by name, else whatever has a column of numbers. */
const likely = (lines: Holding[]) =>
  lines.find((one) => /contour/i.test(one.name)) ??
  lines.find((one) => Object.keys(one.features?.attributes ?? {}).some((name) => /elev|height|contour/i.test(name)));

/** Contours to a surface: the sheet's lines and what lies beside them, how, findings, preview and run. */
export function ContourSurface() {
  const project = useProject();
  const { points, features } = useHeld();
  const work = useWorksheet("contour_surface", ["contours"]);
  const { params, inputs, setParams, setInput } = work;
  const lines = features.filter((one) => has(one, "lines"));
  const chosen = features.find((one) => one.id === inputs.contours);
  const first = likely(lines);
  useEffect(() => {
    if (chosen || !first) return;
    setInput("contours", first.id);
    if (params.reach_limit === undefined) setParams({ reach_limit: 200 });
  }, [chosen, first, params.reach_limit, setInput, setParams]);

  const columns = Object.entries(chosen?.features?.attributes ?? {})
    .filter(([, kind]) => kind === "number")
    .map(([name]) => name);
  const method = (params.method as string) ?? "spline";
  const spline = method === "spline";
  const name = work.sheet.name || (chosen ? `${spline ? "Spline" : "Facets"} of ${chosen.name}` : "");
  if (!lines.length)
    return (
      <Sheet stage="Build" title="Surface from contours">
        <p className="remark">No lines yet. Add contours in Gather: a shapefile in a zip, a GeoPackage or a DXF.</p>
      </Sheet>
    );
  return (
    <Sheet stage="Build" title="Surface from contours" foot={<RunFoot work={work} name={name} />}>
      <Section
        title="What goes in"
        aside={
          chosen?.features && (
            <>
              <span className="n">{num(chosen.features.counts.lines ?? 0)}</span> lines
            </>
          )
        }
      >
        <HoldingChoice
          label="Contours"
          holdings={lines}
          value={chosen?.id}
          onChange={(id) => {
            setInput("contours", id);
            if (params.height_field) setParams({ height_field: null });
          }}
        />
        {columns.length > 1 && (
          <Choice
            label="Heights"
            value={(params.height_field as string | null) ?? NONE}
            options={[
              { value: NONE, title: "found by its name" },
              ...columns.map((column) => ({ value: column, title: column })),
            ]}
            onChange={(next) => setParams({ height_field: next === NONE ? null : next })}
          />
        )}
        <Beside label="Spots" holdings={points} work={work} input="spots" />
        <Beside label="Streams" holdings={lines.filter((one) => one !== chosen)} work={work} input="streams" />
        <Beside label="Lakes" holdings={features.filter((one) => has(one, "polygons"))} work={work} input="lakes" />
        <Beside
          label="Coast, 0 m"
          holdings={features.filter((one) => one !== chosen && (has(one, "lines") || has(one, "polygons")))}
          work={work}
          input="coast"
        />
        <Beside
          label="Area"
          holdings={features.filter((one) => has(one, "polygons"))}
          work={work}
          input="area"
          none="the frame"
        />
      </Section>
      <Section title="How">
        <Methods methods={METHODS} value={method} onChange={(next) => setParams({ method: next })} />
        {spline && (
          <>
            <label className="ck one">
              <input
                type="checkbox"
                checked={(params.drained as boolean | undefined) ?? true}
                onChange={(event) => setParams({ drained: event.target.checked })}
              />
              Open hollows no contour asks for
            </label>
            <div className="row two">
              <NumberField
                label="Tension"
                value={(params.tension as number) ?? 0.5}
                onChange={(tension) => setParams({ tension })}
              />
              <NumberField
                label="Smoothing"
                unit="m"
                placeholder="0"
                value={(params.smoothing as number | null) || null}
                onChange={(smoothing) => setParams({ smoothing: smoothing ?? 0 })}
              />
            </div>
          </>
        )}
        <div className="row two">
          <NumberField
            label="Reach limit"
            unit="m"
            placeholder="none"
            value={params.reach_limit as number | null}
            onChange={(reach_limit) => setParams({ reach_limit })}
          />
          {!spline && (
            <NumberField
              label="Edge limit"
              unit="m"
              placeholder="none"
              value={params.edge_limit as number | null}
              onChange={(edge_limit) => setParams({ edge_limit })}
            />
          )}
        </div>
        <div className="row two">
          <NumberField
            label="Join ends"
            unit="m"
            placeholder="none"
            value={params.join_gaps as number | null}
            onChange={(join_gaps) => setParams({ join_gaps })}
          />
          <NumberField
            label="Cell size"
            unit="m"
            placeholder={size(project.frame.cell_size)}
            value={params.cell_size as number | null}
            onChange={(cell_size) => setParams({ cell_size })}
          />
        </div>
        {!spline && <FacetsSwitch />}
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
