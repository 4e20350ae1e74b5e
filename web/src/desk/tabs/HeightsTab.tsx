import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { call, type Distribution, type Heights, type Holding, type Zone } from "../../api/client";
import { KEYS } from "../../api/keys";
import { has } from "../../stages/useRole";
import { useTool } from "../../tools/useTool";
import { NumberField } from "../../ui/NumberField";
import { inputOf, quantityOf, unitOf, useHeld, useProject } from "../context";
import { many, num, percent, size } from "../format";
import { Measure } from "../Measure";
import { type HeightsShown, useDesk } from "../store";
import { useMeasured } from "../useMeasured";
import { HeightsChart } from "./HeightsChart";
import type { Bars } from "./heightsDrawn";
import styles from "./heightsTab.module.css";

const [EMBER, INDIGO, GREY] = ["#C4501B", "#3B4A9C", "#4D585E"];

/** An area in words: m² where small, km² where large. */
const areaOf = ({ area }: Zone) => (area < 1e6 ? `${many(area)} m²` : `${num(area / 1e6, 2)} km²`);
const volumeOf = ({ volume }: Zone) => `${volume < 100 ? num(volume, 1) : many(volume)} m³`;

const Chip = ({ slot, of }: { slot: "A" | "B"; of: Holding | undefined }) => (
  <span className={slot === "A" ? "chipa" : styles.chipb} title={of?.name}>
    {slot}
  </span>
);

/** Round levels a third and two thirds up what is there. */
function usualLevels(of: Distribution | null | undefined): [number, number] {
  if (!of || of.lowest === null || of.highest === null) return [0, 0];
  const span = of.last - of.first;
  const step = 10 ** Math.floor(Math.log10(Math.max(span, 1e-6) / 3));
  const at = (share: number) => Number((Math.round((of.first + share * span) / step) * step).toPrecision(6));
  return [at(1 / 3), at(2 / 3)];
}

/** How heights of A, of B and of A − B are distributed over an area; and areas and volumes about levels that can be dragged. */
export function HeightsTab() {
  const project = useProject();
  const { features, a, b } = useHeld();
  const bounds = useDesk((desk) => desk.bounds);
  const shown = useDesk((desk) => desk.heights);
  const set = useDesk((desk) => desk.set);
  const change = (values: Partial<HeightsShown>) => set({ heights: { ...useDesk.getState().heights, ...values } });
  const draw = useTool("area", (ring) => change({ over: "drawn", ring }));

  const polygons = features.filter((one) => has(one, "polygons"));
  const over = shown.over === "drawn" && !shown.ring ? "view" : shown.over;
  const place = {
    bounds: over === "view" ? (bounds?.map((value) => Math.round(value)) ?? null) : null,
    ring: over === "drawn" ? shown.ring : null,
    area: typeof over === "number" ? over : null,
  };
  const alike = !a || !b || quantityOf(a) === quantityOf(b);
  const second = alike ? b : undefined;
  const [moved, setMoved] = useState<{ levels: [number, number]; minus: boolean } | null>(null);
  const levelled = shown.what === "levels";
  const body = { a: a?.key ?? null, b: second?.key ?? null, ...place, levels: shown.levels, about: shown.about };
  const { data: quick, error } = useQuery({
    queryKey: KEYS.heights(project.id, body),
    queryFn: ({ signal }) => call<Heights>("POST", `/projects/${project.id}/heights`, body, signal),
    enabled: Boolean(a || second) && (over !== "view" || place.bounds !== null),
    placeholderData: keepPreviousData,
    gcTime: 60_000,
    retry: false,
  });
  const { exact, measure } = useMeasured<Heights>(
    {
      operation: "heights",
      params: Object.fromEntries(
        Object.entries({ bounds: place.bounds, ring: place.ring, levels: shown.levels, about: shown.about }).filter(
          ([, value]) => value !== null,
        ),
      ),
      inputs: {
        ...(a ? { first: inputOf(a) } : {}),
        ...(second ? { second: second.id } : {}),
        ...(typeof over === "number" ? { area: [over] } : {}),
      },
    },
    "Heights",
  );
  const data = exact ?? quick;
  const first = data?.a ?? data?.b;
  useEffect(() => {
    if (levelled && !shown.levels && first?.mean != null)
      set({ heights: { ...useDesk.getState().heights, levels: usualLevels(first) } });
  }, [levelled, shown.levels, first, set]);

  if (!a && !b) return <p className="empties">Put a surface in A or B to see how its heights are distributed.</p>;
  const quantity = quantityOf(a ?? b);
  const unit = unitOf(quantity, project.frame.unit);
  const solid = quantity === "height" || quantity === "difference";
  const minus = shown.minus && Boolean(data?.minus);
  const now = moved && moved.minus === minus ? moved.levels : minus ? shown.about : shown.levels;
  const keep = (levels: [number, number]) => change(minus ? { about: levels } : { levels });
  const rows: [ReactNode, Distribution | null | undefined, string][] = [
    [<Chip key="a" slot="A" of={a} />, data?.a, "A"],
    [<Chip key="b" slot="B" of={b} />, data?.b, "B"],
    [<b key="m">A − B</b>, data?.minus, "A − B"],
  ];
  const bars: Bars[] = rows.flatMap(([, of, name]) =>
    of && minus === (name === "A − B")
      ? [{ name: name as Bars["name"], colour: name === "A" ? EMBER : name === "B" ? INDIGO : GREY, of }]
      : [],
  );
  const listed = levelled ? rows.filter(([, , name]) => minus === (name === "A − B")) : rows;
  const figure = (value: number | null | undefined, of = unit, decimals = 2) => (
    <td>
      <span className="n">{num(value, decimals)}</span> {value == null ? "" : of}
    </td>
  );
  const zone = (of: Zone | null | undefined) => [
    <td key="area" className="n">
      {of ? areaOf(of) : "–"}
    </td>,
    <td key="volume" className="n">
      {of ? volumeOf(of) : "–"}
    </td>,
  ];
  const cell = first?.cell ?? project.frame.cell_size;
  const words = minus ? ["cut: below", "fill: above"] : ["room below", "ground above"];
  return (
    <div className="heights" aria-busy={!data}>
      <div className="told">
        <p className="acts">
          <select
            aria-label="Area"
            value={String(over)}
            onChange={({ target: { value } }) => {
              if (value === "draw") {
                draw.put(true);
              } else change({ over: /^\d+$/.test(value) ? Number(value) : (value as HeightsShown["over"]) });
            }}
          >
            <option value="view">over this view</option>
            <option value="all">over the frame</option>
            {shown.ring && <option value="drawn">in the drawn area</option>}
            {polygons.map((one) => (
              <option key={one.id} value={one.id}>
                in {one.name}
              </option>
            ))}
            <option value="draw">{draw.inHand ? "click its corners…" : "draw an area"}</option>
          </select>
          {solid && (
            <span className="seg" role="radiogroup" aria-label="What is told">
              {(["figures", "levels"] as const).map((what) => (
                <label key={what}>
                  <input type="radio" name="told" checked={shown.what === what} onChange={() => change({ what })} />
                  {what === "figures" ? "Figures" : "Areas and volumes"}
                </label>
              ))}
            </span>
          )}
          {data?.minus && (
            <span className="seg" role="radiogroup" aria-label="Charted">
              {[false, true].map((which) => (
                <label key={String(which)}>
                  <input
                    type="radio"
                    name="charted"
                    checked={minus === which}
                    onChange={() => change({ minus: which })}
                  />
                  {which ? "A − B" : "A and B"}
                </label>
              ))}
            </span>
          )}
          <span className="mut">
            cells of <span className="n">{size(cell)}</span> m
          </span>
          {!exact && cell > project.frame.cell_size && project.role !== "viewer" && a && <Measure measure={measure} />}
        </p>
        {error && <p className="err">{error.message}</p>}
        {levelled && solid ? (
          <>
            <div className="pair">
              <NumberField
                label="Lower level"
                unit={unit}
                value={now?.[0]}
                onChange={(value) => value !== null && now && keep([value, Math.max(value, now[1])])}
              />
              <NumberField
                label="Upper level"
                unit={unit}
                value={now?.[1]}
                onChange={(value) => value !== null && now && keep([Math.min(value, now[0]), value])}
              />
            </div>
            <table className="t" aria-label="Areas and volumes">
              <thead>
                <tr>
                  <th />
                  <th>below the lower</th>
                  <th>{words[0]}</th>
                  <th>between</th>
                  <th>over the lower</th>
                  <th>above the upper</th>
                  <th>{words[1]}</th>
                </tr>
              </thead>
              <tbody>
                {listed.map(([chip, of, name]) =>
                  of ? (
                    <tr key={name}>
                      <td>{chip}</td>
                      {zone(of.below)}
                      {zone(of.between)}
                      {zone(of.above)}
                    </tr>
                  ) : null,
                )}
              </tbody>
            </table>
          </>
        ) : (
          <table className="t" aria-label="Heights">
            <thead>
              <tr>
                <th />
                <th>lowest</th>
                <th>5 %</th>
                <th>median</th>
                <th>mean</th>
                <th>95 %</th>
                <th>highest</th>
                <th title="Standard deviation">std dev</th>
                <th title="Normalised median absolute deviation: spread without the outliers">NMAD</th>
                <th title="Above 0 the long tail is towards high values">skew</th>
                <th>empty</th>
              </tr>
            </thead>
            <tbody>
              {rows.map(([chip, of, name]) =>
                of ? (
                  <tr key={name}>
                    <td>{chip}</td>
                    {figure(of.lowest)}
                    {figure(of.quantiles[1])}
                    {figure(of.quantiles[3])}
                    {figure(of.mean)}
                    {figure(of.quantiles[5])}
                    {figure(of.highest)}
                    {figure(of.deviation)}
                    {figure(of.nmad)}
                    {figure(of.skew, "")}
                    <td className="n">{of.cells ? percent(of.empty / of.cells) : "–"}</td>
                  </tr>
                ) : null,
              )}
            </tbody>
          </table>
        )}
        {!alike && <p className="mut">A and B say different things; their difference is none.</p>}
        {data && !bars.some(({ of }) => of.mean !== null) && <p className="mut">No cell of it has a height there.</p>}
      </div>
      <HeightsChart
        bars={bars}
        unit={unit}
        levels={levelled && solid ? now : null}
        mapped={!minus && quantity === "height"}
        onMove={(levels) => setMoved({ levels, minus })}
        onKeep={(levels) => {
          setMoved(null);
          keep(levels);
        }}
      />
    </div>
  );
}
