import { type KeyboardEvent, type PointerEvent, useRef } from "react";
import styles from "./sunDial.module.css";

const [SIZE, RADIUS] = [92, 40];
const LOWEST = 5;

/** Where the light stands as a place on the sky seen from below: the rim is the horizon, the middle overhead. */
export function placeOf(azimuth: number, altitude: number): [number, number] {
  const turn = (azimuth * Math.PI) / 180;
  const out = RADIUS * (1 - altitude / 90);
  return [SIZE / 2 + out * Math.sin(turn), SIZE / 2 - out * Math.cos(turn)];
}

/** The light that stands at a place of the dial. */
export function lightAt(x: number, y: number): { azimuth: number; altitude: number } {
  const [east, north] = [x - SIZE / 2, SIZE / 2 - y];
  const azimuth = Math.round((Math.atan2(east, north) * 180) / Math.PI + 360) % 360;
  const out = Math.min(Math.hypot(east, north) / RADIUS, 1);
  return { azimuth, altitude: Math.max(Math.round(90 * (1 - out)), LOWEST) };
}

/** A light that is turned by dragging it over the sky. */
export function SunDial(props: {
  azimuth: number;
  altitude: number;
  onChange: (light: { azimuth: number; altitude: number }) => void;
}) {
  const { azimuth, altitude, onChange } = props;
  const held = useRef(false);
  const [x, y] = placeOf(azimuth, altitude);
  const move = (event: PointerEvent<HTMLDivElement>) => {
    if (!held.current) return;
    const box = event.currentTarget.getBoundingClientRect();
    onChange(lightAt(event.clientX - box.left, event.clientY - box.top));
  };
  const turn = (event: KeyboardEvent) => {
    const [by, up] = { ArrowLeft: [-5, 0], ArrowRight: [5, 0], ArrowUp: [0, 5], ArrowDown: [0, -5] }[event.key] ?? [];
    if (by === undefined || up === undefined) return;
    event.preventDefault();
    onChange({ azimuth: (azimuth + by + 360) % 360, altitude: Math.min(Math.max(altitude + up, LOWEST), 90) });
  };
  return (
    <div
      className={styles.sundial}
      role="slider"
      tabIndex={0}
      aria-label="Light"
      aria-valuenow={azimuth}
      aria-valuetext={`from ${Math.round(azimuth)}°, ${Math.round(altitude)}° above the horizon`}
      onKeyDown={turn}
      onPointerDown={(event) => {
        held.current = true;
        event.currentTarget.setPointerCapture(event.pointerId);
        move(event);
      }}
      onPointerMove={move}
      onPointerUp={() => {
        held.current = false;
      }}
      onPointerCancel={() => {
        held.current = false;
      }}
    >
      <svg width={SIZE} height={SIZE} viewBox={`0 0 ${SIZE} ${SIZE}`} aria-hidden="true">
        <circle cx={SIZE / 2} cy={SIZE / 2} r={RADIUS} className={styles.sky} />
        <circle cx={SIZE / 2} cy={SIZE / 2} r={RADIUS / 2} className="ring" />
        <path
          d={`M${SIZE / 2} 2v8M${SIZE / 2} ${SIZE - 10}v8M2 ${SIZE / 2}h8M${SIZE - 10} ${SIZE / 2}h8`}
          className="ring"
        />
        <text x={SIZE / 2} y={19} textAnchor="middle">
          N
        </text>
        <path d={`M${x} ${y}L${SIZE / 2} ${SIZE / 2}`} className={styles.ray} />
        <circle cx={x} cy={y} r={6} className={styles.sun} />
      </svg>
    </div>
  );
}
