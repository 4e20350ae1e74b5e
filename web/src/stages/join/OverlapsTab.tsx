import { useProject } from "../../desk/context";
import { num, shortUnit, size } from "../../desk/format";
import { Measure } from "../../desk/Measure";
import type { Source } from "../../desk/products";
import { FRESH, useDesk } from "../../desk/store";
import { patchOf, stopsOf } from "../../map/ramps";
import { type Overlap, useOverlaps } from "../../stages/join/useOverlaps";
import styles from "./overlapsTab.module.css";
import { signed } from "./Sources";

const [WIDE, HIGH] = [96, 16];

/** The differences of a pair as bars about zero, coloured as the map colours differences. */
function Bars({ pair, reach }: { pair: Overlap; reach: number }) {
  const { low, high, counts } = pair.histogram;
  const x = (value: number) => ((Math.max(Math.min(value, reach), -reach) + reach) / (2 * reach)) * WIDE;
  if (low > reach || high < -reach) return <span className="mut">{low > 0 ? "off scale →" : "← off scale"}</span>;
  const most = Math.max(...counts, 1);
  const step = (high - low) / counts.length;
  const stops = stopsOf(FRESH.looks.difference);
  const colour = (value: number) =>
    (value < -reach / 8 ? stops[1] : value > reach / 8 ? stops.at(-2) : [0, "#8B9092"])?.[1] as string;
  return (
    <svg viewBox={`0 0 ${WIDE} ${HIGH}`} width={WIDE} height={HIGH} aria-hidden="true">
      {counts.map((count, i) => {
        const from = low + i * step;
        const tall = (count / most) * (HIGH - 2);
        const left = x(from);
        return (
          <rect
            key={from}
            x={left}
            y={HIGH - tall}
            width={Math.max(x(from + step) - left, 0.4)}
            height={tall}
            fill={colour(from + step / 2)}
          />
        );
      })}
      <path d={`M${WIDE / 2} 0V${HIGH}`} stroke="var(--ink)" strokeWidth="1" />
    </svg>
  );
}

const PHASE = { aligned: "aligned", size: "other cell size", crs: "other CRS" };

/** What the cells of a source were written as and, in brackets, what means empty in them. */
export const typesOf = (source: Source | undefined) => [
  ...new Set(
    source?.holdings.map(({ file }) =>
      file
        ? `${file.cell_type} (${file.nodata === null ? "none" : String(Number(file.nodata)).replace("-", "−")})`
        : "float32 (NaN)",
    ),
  ),
];

/** Every overlap of the mosaic's surfaces as a row; pressed, the map shows the difference of its two surfaces. */
export function OverlapsTab() {
  const unit = shortUnit(useProject().frame.unit);
  const set = useDesk((desk) => desk.set);
  const change = useDesk((desk) => desk.sheet);
  const sheet = useDesk((desk) => desk.sheets.mosaic);
  const { chosen, overlaps, waiting, failed, measure } = useOverlaps();
  if (failed) return <p className="empties">{failed}</p>;
  if (chosen.length < 2) return <p className="empties">Choose two surfaces or more to see where they overlap.</p>;
  if (!overlaps) return <p className="empties">{waiting ? "Measuring the overlaps…" : "No overlaps yet."}</p>;
  if (!overlaps.pairs.length) return <p className="empties">No two of these surfaces have heights at one place.</p>;
  const usable = overlaps.pairs.filter((one) => !one.unit_factor);
  const reach = Math.max(...usable.map((one) => Math.min(Math.abs(one.median) + 3 * one.nmad, 50)), 0.5);
  const name = (number: number) => (
    <>
      <i className="patch" style={{ background: patchOf(number) }} />
      {chosen[number]?.name}
    </>
  );
  return (
    <div className="tabpad">
      <table className={`t ${styles.overlaps}`} aria-label="Overlaps" aria-busy={waiting}>
        <thead>
          <tr>
            <th>Pair</th>
            <th title={`Cells of ${num(overlaps.cell)} m where both have heights, but for a sea of 0 m in both`}>
              cells of {size(overlaps.cell)} m
            </th>
            <th title="Mean and median of first minus second">mean</th>
            <th title="Half of the differences are below it">median</th>
            <th className="about">
              <span>
                <span>{signed(-reach, reach < 3 ? 1 : 0)}</span>
                <span>0</span>
                <span>
                  {signed(reach, reach < 3 ? 1 : 0)} {unit}
                </span>
              </span>
            </th>
            <th title="Normalised median absolute deviation: spread without the outliers">NMAD</th>
            <th title="Slope of the plane through the differences">tilt</th>
            <th>after levelling</th>
            <th>cells lie</th>
            <th title="What the cells of the two were written as and, in brackets, what means empty in them">
              type (empty)
            </th>
          </tr>
        </thead>
        <tbody>
          {overlaps.pairs.map((pair) => {
            const numbers = [pair.first, pair.second];
            const shown = sheet?.output === "difference" && String(sheet.params.pair) === String(numbers);
            return (
              <tr key={`${pair.first}-${pair.second}`} className={shown ? "shown" : ""}>
                <td>
                  <button
                    type="button"
                    className="pair"
                    aria-pressed={shown}
                    title={shown ? "Show the heights again" : "Show the difference on the map"}
                    onClick={() => {
                      const params = { ...sheet?.params, pair: shown ? null : numbers };
                      change("mosaic", { params, output: shown ? null : "difference" });
                      set({ previewOn: true });
                    }}
                  >
                    {name(pair.first)}
                    <span className="mut">−</span>
                    {name(pair.second)}
                  </button>
                </td>
                <td
                  className={pair.blunders ? "n warn" : "n"}
                  title={pair.blunders ? `${pair.blunders} of them differ beyond reason` : undefined}
                >
                  {num(pair.cells)}
                </td>
                <td>
                  <span className="n">{signed(pair.mean)}</span> {unit}
                </td>
                <td>
                  <span className="n">{signed(pair.median)}</span> {unit}
                </td>
                <td>
                  <Bars pair={pair} reach={reach} />
                </td>
                <td>
                  <span className="n">{num(pair.nmad, 2)}</span> {unit}
                </td>
                <td>
                  <span className="n">{num(pair.tilt, 2)}</span> {unit}/km
                </td>
                <td>
                  {pair.unit_factor ? (
                    <span className="warn">waits: feet?</span>
                  ) : (
                    <>
                      <span className="n">{signed(pair.after)}</span> {unit}
                    </>
                  )}
                </td>
                <td>
                  {pair.phase.kind === "off" ? (
                    <>
                      <span className="n">{num(pair.phase.off, 2)}</span> cell off
                    </>
                  ) : (
                    PHASE[pair.phase.kind]
                  )}
                </td>
                <td>{[...new Set(numbers.flatMap((i) => typesOf(chosen[i])))].join(", ")}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {overlaps.cell > overlaps.finest && (
        <p className="times">
          <Measure measure={measure} />
        </p>
      )}
    </div>
  );
}
