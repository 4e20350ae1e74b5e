import { useEffect } from "react";
import { useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
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

const KEEP = [
  { value: "inside", title: "inside, the rest is emptied" },
  { value: "outside", title: "outside, the inside is emptied" },
  { value: "rectangle", title: "the rectangle around it" },
];
const NONE = "any";

/** Only the part of a surface that is wanted. */
export function ClipSheet() {
  const project = useProject();
  const { features } = useHeld();
  const work = useWorksheet("clip", ["surface"]);
  const drawing = useDesk((desk) => desk.drawing);
  const area = useDesk((desk) => desk.area);
  const bounds = useDesk((desk) => desk.bounds);
  const set = useDesk((desk) => desk.set);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work);
  const areas = features.filter((one) => has(one, "polygons"));
  const given = Array.isArray(work.inputs.area) ? work.inputs.area[0] : undefined;
  const polygons = areas.find((one) => one.id === given);
  const box = params.bounds as [number, number, number, number] | undefined;
  const onFrame = chosen?.surface?.crs === project.frame.grid.crs;
  // what is drawn on the map becomes the rectangle
  useEffect(() => {
    if (!area) return;
    const [xs, ys] = [area.map(([x]) => x), area.map(([, y]) => y)];
    setParams({
      keep: "rectangle",
      bounds: [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)].map(Math.round),
    });
    set({ area: null });
  }, [area, setParams, set]);
  const side = (i: number) => (value: number | null) => {
    const next = [...(box ?? [0, 0, 0, 0])];
    next[i] = value ?? 0;
    setParams({ bounds: next });
  };
  const keep = (params.keep as string) ?? "inside";
  const name =
    work.sheet.name || (chosen ? `${chosen.name}, ${keep === "outside" ? "emptied inside" : "clipped"}` : "");
  if (!usable.length) return <NoSurface stage="Fit" title="Clip and mask" />;
  return (
    <Sheet stage="Fit" title="Clip and mask" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="What goes in">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
      </Section>
      <Section title="Where">
        {!box && (
          <>
            <Beside label="Polygons" input="area" holdings={areas} work={work} none="choose" />
            {polygons && (
              <>
                <Choice
                  label="Only where"
                  value={(params.column as string) || NONE}
                  options={[
                    { value: NONE, title: "all of them" },
                    ...Object.keys(polygons.features?.attributes ?? {}).map((one) => ({ value: one, title: one })),
                  ]}
                  onChange={(column) => setParams({ column: column === NONE ? null : column })}
                />
                {params.column ? (
                  <div className="row">
                    <label htmlFor="clip-value">is</label>
                    <span className="field">
                      <input
                        id="clip-value"
                        className="text"
                        maxLength={200}
                        value={(params.value as string) ?? ""}
                        onChange={(event) => setParams({ value: event.target.value || null })}
                      />
                    </span>
                  </div>
                ) : null}
              </>
            )}
            <div className="row two">
              <NumberField
                label="Margin"
                unit="m"
                value={(params.margin as number) ?? 0}
                onChange={(margin) => setParams({ margin: margin ?? 0 })}
              />
            </div>
          </>
        )}
        {box && (
          <>
            <div className="row two">
              <NumberField label="West" value={box[0]} onChange={side(0)} />
              <NumberField label="East" value={box[2]} onChange={side(2)} />
            </div>
            <div className="row two">
              <NumberField label="South" value={box[1]} onChange={side(1)} />
              <NumberField label="North" value={box[3]} onChange={side(3)} />
            </div>
          </>
        )}
        <p className="times">
          {onFrame && (
            <button type="button" className="lnk" aria-pressed={drawing} onClick={() => set({ drawing: !drawing })}>
              {drawing ? "Click the corners, twice at the last" : "Draw it"}
            </button>
          )}
          {onFrame && bounds && (
            <button
              type="button"
              className="lnk"
              onClick={() => setParams({ keep: "rectangle", bounds: bounds.map((value) => Math.round(value)) })}
            >
              This view
            </button>
          )}
          {box && (
            <button type="button" className="lnk" onClick={() => setParams({ bounds: null, keep: null })}>
              Polygons instead
            </button>
          )}
        </p>
      </Section>
      <Section title="What stays">
        <Choice label="Keep" value={keep} options={KEEP} onChange={(next) => setParams({ keep: next })} />
        <label className="ck one">
          <input
            type="checkbox"
            checked={(params.touched as boolean | undefined) ?? false}
            onChange={(event) => setParams({ touched: event.target.checked })}
          />
          Cells that the edge runs through as well
        </label>
        {keep !== "outside" && (
          <label className="ck one">
            <input
              type="checkbox"
              checked={(params.trim as boolean | undefined) ?? true}
              onChange={(event) => setParams({ trim: event.target.checked })}
            />
            The grid ends there
          </label>
        )}
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
