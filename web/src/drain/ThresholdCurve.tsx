import type { Streams } from "../api/client";
import styles from "./drain.module.css";

const [WIDE, HIGH] = [279, 34];

interface Props {
  curve: Streams["curve"];
  /** Hectares between which streams can begin. */
  range: [number, number];
  at: number;
}

/** How long streams are together by where they begin, both on axes that grow by tenfolds. */
export function ThresholdCurve({ curve = [], range: [least, most], at }: Props) {
  const x = (hectares: number) => (Math.log(hectares / least) / Math.log(most / least || 1)) * WIDE;
  const longest = Math.max(...curve.map(([, , length]) => length), 1);
  const shortest = Math.max(Math.min(...curve.map(([, , length]) => length)), longest / 1000);
  const y = (length: number) =>
    HIGH - 2 - (Math.log(Math.max(length, shortest) / shortest) / Math.log(longest / shortest || 1)) * (HIGH - 6);
  const line = curve.map(([area, , length]) => `${x(area).toFixed(1)},${y(length).toFixed(1)}`).join(" ");
  return (
    <svg
      className={styles.curve}
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      aria-label="Length of streams by where they begin"
    >
      <polygon points={`0,${HIGH} ${line} ${WIDE},${HIGH}`} />
      <line x1={x(at)} x2={x(at)} y1="0" y2={HIGH} />
    </svg>
  );
}
