import { useCallback, useEffect, useMemo } from "react";
import type { Holding } from "../../api/client";
import { useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { useFeatures } from "../../desk/useDraft";
import { boxOf } from "../gather/area";
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

/** The values of a column, each with how many features have it, the most frequent first. */
function useValues(holding: Holding | undefined, column: string): [string, number][] {
  const { data } = useFeatures(column ? holding : undefined);
  return useMemo(() => {
    const counts = new Map<string, number>();
    for (const { properties } of data?.features ?? []) {
      const value = properties[column];
      if (value !== null && value !== undefined) counts.set(String(value), (counts.get(String(value)) ?? 0) + 1);
    }
    return [...counts].sort(([, one], [, other]) => other - one).slice(0, MOST_VALUES);
  }, [data, column]);
}

const MOST_VALUES = 200;

/** Only the part of a surface that is wanted. */
export function ClipSheet() {
  const project = useProject();
  const { all, features } = useHeld();
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
  // a rectangle stands instead of polygons: those chosen before would be named as a source and never be used
  const cut = useCallback(
    (to: number[]) => {
      setParams({ keep: "rectangle", bounds: to.map(Math.round), column: null, value: null });
      setInput("area", []);
    },
    [setParams, setInput],
  );
  // what is drawn on the map becomes the rectangle
  useEffect(() => {
    if (!area) return;
    cut(boxOf(area));
    set({ area: null });
  }, [area, cut, set]);
  const values = useValues(polygons, (params.column as string) || "");
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
                        list="clip-values"
                        maxLength={200}
                        value={(params.value as string) ?? ""}
                        onChange={(event) => setParams({ value: event.target.value || null })}
                      />
                      <datalist id="clip-values">
                        {values.map(([value, count]) => (
                          <option key={value} value={value}>
                            {count === 1 ? "1 polygon" : `${count} polygons`}
                          </option>
                        ))}
                      </datalist>
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
            <button type="button" className="lnk" onClick={() => cut(bounds)}>
              This view
            </button>
          )}
          {onFrame && (
            <select
              aria-label="The extent of"
              value=""
              onChange={(event) => {
                const one = all.find(({ id }) => id === Number(event.target.value));
                if (one?.bounds) cut(one.bounds);
              }}
            >
              <option value="">the extent of…</option>
              {all
                .filter((one) => one.bounds && one.id !== chosen?.id)
                .map((one) => (
                  <option key={one.id} value={one.id}>
                    {one.name}
                  </option>
                ))}
            </select>
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
