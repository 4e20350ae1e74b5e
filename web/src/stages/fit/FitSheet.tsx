import { useHeld, useProject } from "../../desk/context";
import { size } from "../../desk/format";
import {
  Beside,
  Choice,
  Findings,
  HoldingChoice,
  has,
  NameRow,
  NoSurface,
  NumberField,
  Section,
  Sheet,
} from "../parts";
import { RunFoot } from "../RunFoot";
import { useChosenHeights } from "../useChosenHeights";
import { useWorksheet } from "../useWorksheet";

const RESAMPLING = [
  { value: "bilinear", title: "bilinear, for heights" },
  { value: "cubic", title: "cubic, keeps bends" },
  { value: "cubic_spline", title: "cubic spline, smooths" },
  { value: "mean", title: "mean of the cells within" },
  { value: "lowest", title: "lowest of the cells within" },
  { value: "highest", title: "highest of the cells within" },
  { value: "nearest", title: "nearest, for classes" },
];

/** A surface in another CRS or cell size on the frame's own cells. */
export function FitSheet() {
  const project = useProject();
  const { features } = useHeld();
  const work = useWorksheet("fit_to_frame", ["surface"]);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work, (one) => !one.surface?.on_frame);
  const areas = features.filter((one) => has(one, "polygons"));
  const cell = (params.cell_size as number | null) ?? project.frame.cell_size;
  const name = work.sheet.name || (chosen ? `${chosen.name} at ${size(cell)} m` : "");
  if (!usable.length) return <NoSurface stage="Fit" title="Reproject and resample" />;
  return (
    <Sheet stage="Fit" title="Reproject and resample" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="What goes in">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
        {chosen?.surface && (
          <div className="row" style={{ minHeight: 20 }}>
            <span className="lab">Its cells</span>
            <span style={{ fontSize: 12 }}>
              <span className="n">{size(chosen.surface.cell_size)}</span> m in{" "}
              <span className="n">{chosen.surface.crs}</span>
            </span>
          </div>
        )}
        {areas.length > 0 && <Beside label="Area" input="area" holdings={areas} work={work} none="the frame" />}
      </Section>
      <Section title="How">
        <div className="row" style={{ minHeight: 20 }}>
          <span className="lab">Onto</span>
          <span style={{ fontSize: 12 }}>
            <span className="n">{project.frame.grid.crs}</span>, in step with the frame
          </span>
        </div>
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
          label="Read"
          value={(params.resampling as string) ?? "bilinear"}
          options={RESAMPLING}
          onChange={(resampling) => setParams({ resampling })}
        />
        <label className="ck one">
          <input
            type="checkbox"
            checked={(params.trim as boolean | undefined) ?? true}
            onChange={(event) => setParams({ trim: event.target.checked })}
          />
          The grid ends where the surface ends
        </label>
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
