import { num } from "../../desk/format";
import styles from "./shift.module.css";

interface Props {
  title: string;
  /** Aspects in degrees, and what stands at each in metres. */
  aspect: number[];
  swing: (number | null)[];
  dots: [number, number][];
  /** Of the cosine through them: metres, and degrees towards which it is largest; none where null. */
  cosine: { distance: number; direction: number } | null;
  /** How far the axis goes up and down, in metres. */
  reach: number;
}

const [WIDE, HIGH, LEFT, FOOT] = [284, 96, 30, 16];
const QUARTERS = ["N", "E", "S", "W", "N"];

/** The difference over the tangent of the slope, by aspect: a cosine where one surface lies beside the other. */
export function Swing({ title, aspect, swing, dots, cosine, reach }: Props) {
  const x = (degrees: number) => LEFT + (degrees / 360) * (WIDE - LEFT - 8);
  const y = (metres: number) => (HIGH - FOOT) / 2 - (metres / reach) * ((HIGH - FOOT) / 2 - 4);
  const line = cosine
    ? Array.from({ length: 73 }, (_, i) => [
        i * 5,
        cosine.distance * Math.cos(((cosine.direction - i * 5) * Math.PI) / 180),
      ])
    : [];
  const path = (points: (number | null)[][]) =>
    points.flatMap(([at, value]) => (value == null ? [] : `${x(at ?? 0).toFixed(1)},${y(value).toFixed(1)}`)).join(" ");
  const medians = aspect.map((at, i) => [at, swing[i] ?? null]);
  return (
    <figure className={styles.swing}>
      <figcaption>
        {title} <span className="mut">m, by aspect</span>
      </figcaption>
      <svg
        viewBox={`0 0 ${WIDE} ${HIGH}`}
        role="img"
        aria-label={`${title}: difference over tangent of slope, by aspect`}
      >
        {[-1, 0, 1].map((sign) => (
          <g key={sign}>
            <line x1={LEFT} x2={WIDE - 8} y1={y(sign * reach)} y2={y(sign * reach)} />
            <text x={LEFT - 4} y={y(sign * reach) + 3.5} textAnchor="end">
              {sign > 0 ? "+" : ""}
              {num(sign * reach, reach < 10 ? 1 : 0)}
            </text>
          </g>
        ))}
        {dots.map(([at, value], i) =>
          Math.abs(value) <= reach ? (
            // biome-ignore lint/suspicious/noArrayIndexKey: cells have no names, and their order does not change
            <circle key={i} cx={x(at)} cy={y(value)} r="1" />
          ) : null,
        )}
        {cosine ? <polyline points={path(line)} /> : <polyline points={path(medians)} />}
        {QUARTERS.map((word, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: north stands twice
          <text key={i} x={x(i * 90)} y={HIGH - 3} textAnchor="middle">
            {word}
          </text>
        ))}
      </svg>
    </figure>
  );
}
