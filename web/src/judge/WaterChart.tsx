import type { Water } from "../api/client";
import { num } from "../desk/format";
import { marks } from "../desk/key/range";
import styles from "./water.module.css";

const [WIDE, HIGH, LEFT, FOOT] = [278, 132, 40, 28];

interface Props {
  water: Water;
  ink: (id: number) => string;
  level: number;
  onLevel: (level: number) => void;
}

/** Area under water by level, a line for each surface; the level is dragged along it. */
export function WaterChart({ water, ink, level, onLevel }: Props) {
  const { levels, basins } = water;
  const [low, high] = [levels[0] ?? 0, levels.at(-1) ?? 1];
  const most = Math.max(...basins.flatMap((one) => one.areas ?? []), 1);
  const x = (height: number) => LEFT + ((height - low) / (high - low || 1)) * (WIDE - LEFT - 8);
  const y = (area: number) => HIGH - FOOT - (area / most) * (HIGH - FOOT - 8);
  const pull = (event: React.PointerEvent<SVGSVGElement>) => {
    if (event.buttons !== 1) return;
    const box = event.currentTarget.getBoundingClientRect();
    const at = ((event.clientX - box.left) / box.width) * WIDE;
    const share = Math.min(Math.max((at - LEFT) / (WIDE - LEFT - 8), 0), 1);
    onLevel(Math.round((low + share * (high - low)) * 100) / 100);
  };
  return (
    <svg
      className={styles.chart}
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      aria-label="Area under water by level"
      onPointerDown={pull}
      onPointerMove={pull}
    >
      {marks(0, most / 10_000, 3).map((hectares) => (
        <g key={hectares}>
          <line x1={LEFT} x2={WIDE - 8} y1={y(hectares * 10_000)} y2={y(hectares * 10_000)} />
          <text x={LEFT - 4} y={y(hectares * 10_000) + 3.5} textAnchor="end">
            {num(hectares, most < 40_000 ? 1 : 0)}
          </text>
        </g>
      ))}
      {basins.map((one) => (
        <polyline
          key={one.id}
          stroke={ink(one.id)}
          points={(one.areas ?? []).map((area, i) => `${x(levels[i] ?? 0).toFixed(1)},${y(area).toFixed(1)}`).join(" ")}
        />
      ))}
      {marks(low, high, 4).map((height) => (
        <text key={height} x={x(height)} y={HIGH - FOOT + 13} textAnchor="middle">
          {num(height, high - low < 8 ? 1 : 0)}
        </text>
      ))}
      <line className={styles.here} x1={x(level)} x2={x(level)} y1="2" y2={HIGH - FOOT + 3} />
      <text x={WIDE - 8} y={HIGH - 2} textAnchor="end">
        level, m
      </text>
      <text x="2" y={HIGH - 2}>
        ha under water
      </text>
    </svg>
  );
}
