import type { Scorecard } from "../api/client";
import { type Axis, along } from "./axis";
import styles from "./judge.module.css";

const [WIDE, HIGH, FOOT] = [1000, 40, 31];

interface Props {
  row: Scorecard["rows"][number];
  axis: Axis;
  marks: number[];
  slot: "a" | "b" | null;
  /** Within which the brief wants errors. */
  limit?: number;
}

/** The shape of a surface's errors: their density, the median and NMAD as a bar, the mean as a tick with its interval. */
export function ErrorShape({ row, axis, marks, slot, limit }: Props) {
  const x = (error: number) => along(axis, error) * WIDE;
  const { shape, whole } = row;
  const outline = shape.map(
    (height, i) => `${((i / (shape.length - 1)) * WIDE).toFixed(1)},${(FOOT - height * 27).toFixed(1)}`,
  );
  const mean = whole?.sure.mean;
  return (
    <svg
      className={styles.shape}
      data-slot={slot}
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      preserveAspectRatio="none"
      aria-hidden="true"
    >
      {limit !== undefined && (
        <rect className={styles.asked} x={x(-limit)} width={x(limit) - x(-limit)} y="0" height={HIGH} />
      )}
      {marks.map((mark) => (
        <line
          key={mark}
          className={mark === 0 ? styles.zero : styles.rule}
          x1={x(mark)}
          x2={x(mark)}
          y1="0"
          y2={HIGH}
        />
      ))}
      {whole && (
        <>
          <polygon points={`0,${FOOT} ${outline.join(" ")} ${WIDE},${FOOT}`} />
          <rect
            className={styles.bar}
            x={x(whole.median - whole.nmad)}
            width={Math.max(x(whole.median + whole.nmad) - x(whole.median - whole.nmad), 3)}
            y={FOOT + 1}
            height="4"
          />
          <line className={styles.mean} x1={x(whole.mean)} x2={x(whole.mean)} y1="5" y2={HIGH - 1} />
          {mean && <path className={styles.bracket} d={`M${x(mean[0])} ${HIGH - 5}v4H${x(mean[1])}v-4`} />}
        </>
      )}
    </svg>
  );
}
