import { num } from "../desk/format";
import { marks } from "../desk/key/range";
import styles from "./difference.module.css";

const [WIDE, HIGH, LEFT, FOOT] = [278, 120, 44, 28];

interface Props {
  lags: number[];
  variogram: number[];
  along: number[];
  model: number[];
  unit: string;
}

/** How unlike differences are that lie so far apart, and the model that is fitted to it. */
export function VariogramOf({ lags, variogram, along, model, unit }: Props) {
  const far = Math.max(lags.at(-1) ?? 1, 1e-6);
  const most = Math.max(...variogram, ...model, 1e-9) * 1.06;
  // near and far are told apart where lags grow by a factor
  const x = (lag: number) => LEFT + Math.sqrt(lag / far) * (WIDE - LEFT - 8);
  const y = (value: number) => HIGH - FOOT - (value / most) * (HIGH - FOOT - 6);
  const digits = most < 0.1 ? 3 : most < 1 ? 2 : most < 10 ? 1 : 0;
  return (
    <svg className={styles.chart} viewBox={`0 0 ${WIDE} ${HIGH}`} role="img" aria-label="Variogram of the difference">
      {marks(0, most, 3).map((value) => (
        <g key={value}>
          <line x1={LEFT} x2={WIDE - 8} y1={y(value)} y2={y(value)} />
          <text x={LEFT - 4} y={y(value) + 3.5} textAnchor="end">
            {num(value, digits)}
          </text>
        </g>
      ))}
      <polyline points={along.map((lag, i) => `${x(lag).toFixed(1)},${y(model[i] ?? 0).toFixed(1)}`).join(" ")} />
      {lags.map((lag, i) => (
        <circle key={lag} cx={x(lag)} cy={y(variogram[i] ?? 0)} r="2" />
      ))}
      {[0.04, 0.25, 1].map((share) => (
        <text key={share} x={x(far * share)} y={HIGH - FOOT + 13} textAnchor={share === 1 ? "end" : "middle"}>
          {num(far * share)}
        </text>
      ))}
      <text x={WIDE - 8} y={HIGH - 2} textAnchor="end">
        m apart
      </text>
      <text x="2" y={HIGH - 2}>
        variogram, {unit}²
      </text>
    </svg>
  );
}
