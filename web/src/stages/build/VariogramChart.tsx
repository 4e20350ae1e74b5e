import { type KeyboardEvent, type PointerEvent, useRef } from "react";
import { num } from "../../desk/format";
import { marks } from "../../desk/key/range";
import styles from "./variogramChart.module.css";

export type Model = "spherical" | "exponential" | "gaussian" | "matern";
export interface Fit {
  nugget: number;
  sill: number;
  range: number;
}

const [WIDE, HIGH, LEFT, FOOT] = [278, 128, 40, 26];

/** How alike heights are at a distance given in ranges, as the core has it. */
export function alike(model: Model, h: number): number {
  if (model === "spherical") return h < 1 ? 1 - 1.5 * h + 0.5 * h ** 3 : 0;
  if (model === "exponential") return Math.exp(-3 * h);
  if (model === "gaussian") return Math.exp(-3 * h * h);
  const scaled = 4.743864518 * h;
  return (1 + scaled) * Math.exp(-scaled);
}

export const valueAt = (model: Model, { nugget, sill, range }: Fit, distance: number): number =>
  nugget + sill * (1 - alike(model, distance / range));

interface Props {
  found: { distances: number[]; values: number[]; pairs: number[] };
  model: Model;
  used: Fit;
  onDrag: (fit: Fit) => void;
}

/** The points' variogram and the model through it. One knob drags range and sill, the other the nugget. */
export function VariogramChart({ found, model, used, onDrag }: Props) {
  const svg = useRef<SVGSVGElement>(null);
  const far = (found.distances.at(-1) ?? 1) * 1.05;
  const most = Math.max(...found.values, 1e-9) * 1.15;
  const x = (distance: number) => LEFT + (distance / far) * (WIDE - LEFT - 6);
  const y = (value: number) => HIGH - FOOT - (value / most) * (HIGH - FOOT - 6);
  const curve = Array.from({ length: 61 }, (_, i) => (far * i) / 60);
  const widest = Math.max(...found.pairs, 1);
  const knobAt = { x: Math.min(x(used.range), WIDE - 8), y: Math.max(y(used.nugget + used.sill), 6) };

  const place = (event: PointerEvent): [number, number] => {
    const box = svg.current?.getBoundingClientRect();
    const px = ((event.clientX - (box?.left ?? 0)) / (box?.width || 1)) * WIDE;
    const py = ((event.clientY - (box?.top ?? 0)) / (box?.height || 1)) * HIGH;
    return [((px - LEFT) / (WIDE - LEFT - 6)) * far, ((HIGH - FOOT - py) / (HIGH - FOOT - 6)) * most];
  };
  const drag = (change: (distance: number, value: number) => Fit) => ({
    onPointerDown: (event: PointerEvent<SVGCircleElement>) => event.currentTarget.setPointerCapture(event.pointerId),
    onPointerMove: (event: PointerEvent<SVGCircleElement>) => {
      if (event.currentTarget.hasPointerCapture(event.pointerId)) onDrag(change(...place(event)));
    },
  });
  const toFar = (distance: number, value: number): Fit => ({
    ...used,
    range: Math.max(distance, far / 200),
    sill: Math.max(value - used.nugget, most / 200),
  });
  const toNear = (_: number, value: number): Fit => {
    const total = used.nugget + used.sill;
    const nugget = Math.min(Math.max(value, 0), total * 0.99);
    return { ...used, nugget, sill: total - nugget };
  };
  const keys = (change: (across: number, up: number) => Fit) => (event: KeyboardEvent) => {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (!step) return;
    event.preventDefault();
    onDrag(change((step[0] ?? 0) * (far / 60), (step[1] ?? 0) * (most / 60)));
  };
  const digits = most < 1 ? 2 : most < 20 ? 1 : 0;
  return (
    <svg ref={svg} className={styles.variogram} viewBox={`0 0 ${WIDE} ${HIGH}`} role="group" aria-label="Variogram">
      {marks(0, most, 3).map((value) => (
        <g key={value}>
          <line x1={LEFT} x2={WIDE - 6} y1={y(value)} y2={y(value)} />
          <text x={LEFT - 4} y={y(value) + 3.5} textAnchor="end">
            {value > 0 && num(value, digits)}
          </text>
        </g>
      ))}
      {marks(0, far, 4).map((distance) => (
        <text key={distance} x={x(distance)} y={HIGH - FOOT + 13} textAnchor="middle">
          {num(distance)}
        </text>
      ))}
      {found.distances.map((distance, i) => (
        <circle
          key={distance}
          className="found"
          cx={x(distance)}
          cy={y(found.values[i] ?? 0)}
          r={1.5 + 2 * Math.sqrt((found.pairs[i] ?? 0) / widest)}
        />
      ))}
      <path
        d={`M${curve.map((distance) => `${x(distance).toFixed(1)} ${y(valueAt(model, used, distance)).toFixed(1)}`).join("L")}`}
      />
      <circle
        className={styles.knob}
        cx={knobAt.x}
        cy={knobAt.y}
        r={6}
        tabIndex={0}
        role="slider"
        aria-label="Range and sill"
        aria-valuenow={Math.round(used.range)}
        aria-valuetext={`range ${num(used.range)} m, sill ${num(used.sill, 2)} m²`}
        onKeyDown={keys((across, up) => toFar(used.range + across, used.nugget + used.sill + up))}
        {...drag(toFar)}
      />
      <circle
        className={styles.knob}
        cx={x(0)}
        cy={y(used.nugget)}
        r={5}
        tabIndex={0}
        role="slider"
        aria-label="Nugget"
        aria-valuenow={used.nugget}
        aria-valuetext={`nugget ${num(used.nugget, 2)} m²`}
        onKeyDown={keys((_, up) => toNear(0, used.nugget + up))}
        {...drag(toNear)}
      />
      <text className="word" x={WIDE - 6} y={HIGH - 2} textAnchor="end">
        m apart
      </text>
      <text className="word" x={LEFT} y={HIGH - 2}>
        half the squared difference, m²
      </text>
    </svg>
  );
}
