import { num } from "../../desk/format";
import { marks } from "../../desk/key/range";

/** A colour for each method, told apart by anyone and none of them A's or B's. */
export const METHOD_INKS: Record<string, string> = {
  triangulation: "#1B6470",
  natural_neighbour: "#4A7438",
  inverse_distance: "#7A4E9C",
  spline: "#5E6A70",
  kriging: "#9C2B2B",
  nearest: "#8A5A00",
};

const [WIDE, HIGH, LEFT, FOOT] = [278, 116, 34, 26];

interface Props {
  ends: number[];
  curves: Record<string, (number | null)[]>;
  unit: string;
}

/** Error against the distance to the nearest point: how far a method may be trusted away from its data. */
export function DistanceChart({ ends, curves, unit }: Props) {
  const most = Math.max(...Object.values(curves).flatMap((curve) => curve.map((value) => value ?? 0)), 1e-6);
  // each class is drawn at the middle of its distances
  const middles = ends.map((end, i) => (end + (ends[i - 1] ?? 0)) / 2);
  const far = Math.max((middles.at(-1) ?? 1) * 1.05, 1e-6);
  const x = (distance: number) => LEFT + (distance / far) * (WIDE - LEFT - 6);
  const y = (error: number) => HIGH - FOOT - (error / most) * (HIGH - FOOT - 8);
  const digits = most < 1 ? 2 : most < 10 ? 1 : 0;
  return (
    <svg
      className="distance"
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      aria-label="Error against distance to the nearest point"
    >
      {marks(0, most, 3).map((error) => (
        <g key={error}>
          <line x1={LEFT} x2={WIDE - 6} y1={y(error)} y2={y(error)} />
          <text x={LEFT - 4} y={y(error) + 3.5} textAnchor="end">
            {num(error, digits)}
          </text>
        </g>
      ))}
      {Object.entries(curves).map(([name, curve]) => (
        <polyline
          key={name}
          stroke={METHOD_INKS[name]}
          points={curve
            .flatMap((value, i) => (value === null ? [] : `${x(middles[i] ?? 0).toFixed(1)},${y(value).toFixed(1)}`))
            .join(" ")}
        />
      ))}
      {marks(0, far, 4).map((distance) => (
        <text key={distance} x={x(distance)} y={HIGH - FOOT + 13} textAnchor="middle">
          {num(distance, far < 4 ? 1 : 0)}
        </text>
      ))}
      <text className="word" x={WIDE - 6} y={HIGH - 2} textAnchor="end">
        m to the nearest point given
      </text>
      <text className="word" x={LEFT} y={HIGH - 2}>
        RMSE, {unit}
      </text>
    </svg>
  );
}
