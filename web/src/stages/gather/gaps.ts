import { type Drawn, linesOf, type Position } from "../../map/shapes";

const MOST = 400; // ends that are compared with each other

const DEGREES = 1_000; // metres to a unit from which it can be no length, and is not as long in both directions

/** Metres between the nearest two ends of different lines; null where there are not two lines, too many, or degrees. */
export function nearestGap(rows: Drawn[], metresPerUnit: number): number | null {
  const lines = rows.flatMap((row) => (row.geometry.type.endsWith("LineString") ? linesOf(row.geometry) : []));
  if (lines.length < 2 || lines.length * 2 > MOST || metresPerUnit > DEGREES) return null;
  const ends = lines.map((line) => [line[0], line.at(-1)] as [Position, Position]);
  let least = Number.POSITIVE_INFINITY;
  ends.forEach((one, i) => {
    for (const other of ends.slice(i + 1))
      for (const [x = 0, y = 0] of one)
        for (const [u = 0, v = 0] of other) least = Math.min(least, Math.hypot(x - u, y - v));
  });
  return least * metresPerUnit;
}
