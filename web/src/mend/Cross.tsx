import { num } from "../desk/format";
import styles from "./mend.module.css";

interface Props {
  before: (number | null)[];
  after: (number | null)[];
  /** How wide and high it is drawn, in points. */
  size: [number, number];
  label: string;
  /** The letters at its ends. */
  ends?: [string, string];
  unit?: string;
}

const pathOf = (heights: (number | null)[], x: (i: number) => number, y: (value: number) => number) => {
  let path = "";
  let gap = true;
  heights.forEach((value, i) => {
    if (value === null) {
      gap = true;
      return;
    }
    path += `${gap ? "M" : "L"}${x(i).toFixed(1)} ${y(value).toFixed(1)}`;
    gap = false;
  });
  return path;
};

/** Heights across something: as they are in indigo, and as a patch makes them in ember. */
export function Cross({ before, after, size: [width, height], label, ends, unit = "m" }: Props) {
  const known = [...before, ...after].filter((value): value is number => value !== null);
  const [low, high] = [Math.min(...known), Math.max(...known)];
  if (!known.length) return <p className={styles.nothing}>No heights along this line.</p>;
  const right = ends ? 44 : 4;
  const span = Math.max(high - low, 0.5);
  const x = (i: number) => 4 + (i / Math.max(before.length - 1, 1)) * (width - right - 4);
  const foot = ends ? 14 : 5;
  const y = (value: number) => 5 + ((high - value) / span) * (height - 5 - foot);
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width={width}
      height={height}
      className={styles.cross}
      role="img"
      aria-label={`${label}: ${num(low, 1)} to ${num(high, 1)} ${unit}`}
    >
      <path d={pathOf(before, x, y)} className={styles.asis} />
      <path d={pathOf(after, x, y)} className={styles.proposed} />
      {ends && (
        <>
          <text x={width - 3} y={12} textAnchor="end">
            {num(high, 1)} {unit}
          </text>
          <text x={width - 3} y={height - foot} textAnchor="end">
            {num(low, 1)} {unit}
          </text>
          <text x={4} y={height - 3} className={styles.end}>
            {ends[0]}
          </text>
          <text x={width - right} y={height - 3} textAnchor="end" className={styles.end}>
            {ends[1]}
          </text>
        </>
      )}
    </svg>
  );
}
