import { useMemo } from "react";
import type { Table } from "../api/client";
import { num } from "../desk/format";
import { marks } from "../desk/key/range";
import styles from "./profiles.module.css";

const [WIDE, HIGH, LEFT, RIGHT, TOP, FOOT] = [200, 56, 38, 14, 4, 14];
const COLUMNS = ["crossing", "along", "bed"];

/** Whether a table holds beds of streams along their crossings, as the operation on crossings gives them. */
export const isProfiles = (table: Table): boolean =>
  COLUMNS.every((name, i) => table.columns[i]?.name === name) && table.columns.length === COLUMNS.length;

interface Profile {
  crossing: number;
  places: [along: number, bed: number][];
}

function Chart({ crossing, places }: Profile) {
  const [first, last] = [places[0]?.[0] ?? 0, places[places.length - 1]?.[0] ?? 1];
  const beds = places.map(([, bed]) => bed);
  const [low, high] = [Math.min(...beds), Math.max(...beds, Math.min(...beds) + 0.5)];
  const x = (along: number) => LEFT + ((along - first) / Math.max(last - first, 1)) * (WIDE - LEFT - RIGHT);
  const y = (bed: number) => HIGH - FOOT - ((bed - low) / (high - low)) * (HIGH - FOOT - TOP);
  const there = places.reduce((near, one) => (Math.abs(one[0]) < Math.abs(near[0]) ? one : near));
  const said = `Bed at crossing ${crossing}: from ${num(beds[0], 1)} m to ${num(beds[beds.length - 1], 1)} m over ${num(last - first)} m`;
  return (
    <figure className={styles.profile}>
      <figcaption title="Along the stream, from above the crossing to below it">
        Crossing <b className="n">{num(crossing)}</b>, bed at <b className="n">{num(there[1], 1)}</b> m
      </figcaption>
      <svg viewBox={`0 0 ${WIDE} ${HIGH}`} role="img" aria-label={said}>
        {marks(low, high, 2).map((bed) => (
          <g key={bed}>
            <line x1={LEFT} x2={WIDE - RIGHT} y1={y(bed)} y2={y(bed)} />
            <text x={LEFT - 4} y={y(bed) + 4} textAnchor="end">
              {num(bed, high - low < 4 ? 1 : 0)}
            </text>
          </g>
        ))}
        {marks(first, last, 4).map((along, i, all) => (
          <text key={along} x={x(along)} y={HIGH - FOOT + 12} textAnchor="middle">
            {num(along)}
            {i === all.length - 1 && " m"}
          </text>
        ))}
        <line className={styles.here} x1={x(0)} x2={x(0)} y1={TOP - 4} y2={HIGH - FOOT} />
        <polyline points={places.map(([along, bed]) => `${x(along)},${y(bed)}`).join(" ")} />
      </svg>
    </figure>
  );
}

/** The beds of streams from above each crossing to below it, drawn beside each other. */
export function CrossingProfiles({ table }: { table: Table }) {
  const profiles = useMemo(() => {
    const found = new Map<number, Profile>();
    for (const [crossing, along, bed] of table.rows) {
      if (typeof crossing !== "number" || typeof along !== "number" || typeof bed !== "number") continue;
      const one = found.get(crossing) ?? { crossing, places: [] };
      one.places.push([along, bed]);
      found.set(crossing, one);
    }
    return [...found.values()];
  }, [table]);
  return (
    <div className={styles.profiles}>
      {profiles.map((one) => (
        <Chart key={one.crossing} {...one} />
      ))}
    </div>
  );
}
