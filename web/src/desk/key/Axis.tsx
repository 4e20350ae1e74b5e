import { type KeyboardEvent, type PointerEvent, useLayoutEffect, useRef, useState } from "react";
import type { Quantity, ViewFigures } from "../../api/client";
import { type Stop, stopsOf } from "../../map/ramps";
import { decimalsFor, num } from "../format";
import { type Look, useDesk } from "../store";
import styles from "./axis.module.css";
import { marks } from "./range";

const BAR = { x: 25, width: 11 };

function outline(figures: ViewFigures | undefined, y: (value: number) => number, from: number, to: number): string {
  if (!figures || figures.low === null) return "";
  const most = Math.sqrt(Math.max(...figures.counts, 1));
  const low = figures.first;
  const step = (figures.last - low) / figures.counts.length;
  const sides = figures.counts.map((count, i) => {
    const x = from + (to - from) * (Math.sqrt(count) / most);
    return `H${x.toFixed(1)}V${y(low + (i + 1) * step).toFixed(1)}`;
  });
  return `M${from} ${y(low).toFixed(1)}${sides.join("")}H${from}Z`;
}

interface AxisProps {
  look: Look;
  quantity: Quantity;
  unit: string;
  a: ViewFigures | undefined;
  b: ViewFigures | undefined;
  /** The histogram is of neither slot but of their difference, so it takes neither colour. */
  plain: boolean;
  /** What is under the pointer, for the left and the right side. */
  readings: [number | null | undefined, number | null | undefined];
}

/** The upright axis with ramp, handles, stops and histograms. */
export function Axis({ look, quantity, unit, a, b, plain, readings }: AxisProps) {
  const setLook = useDesk((desk) => desk.look);
  const box = useRef<HTMLDivElement>(null);
  const [height, setHeight] = useState(300);
  const [held, setHeld] = useState<[number, number] | null>(null);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setHeight(element.clientHeight));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);

  const [low, high] = look.range;
  const lows = [low, ...[a, b].flatMap((one) => (one && one.low !== null ? one.first : []))];
  const highs = [high, ...[a, b].flatMap((one) => (one && one.low !== null ? one.last : []))];
  // while a handle is held the axis stands still under it
  const [bottom, top] = held ?? [Math.min(...lows), Math.max(...highs)];
  const margin = 9;
  const span = Math.max(top - bottom, 1e-9);
  const y = (value: number) => height - margin - ((value - bottom) / span) * (height - 2 * margin);
  const value = (at: number) => bottom + ((height - margin - at) / (height - 2 * margin)) * span;

  const drag = (move: (to: number) => void) => ({
    onPointerDown: (event: PointerEvent<SVGGElement>) => {
      event.currentTarget.setPointerCapture(event.pointerId);
      setHeld([bottom, top]);
      event.preventDefault();
    },
    onPointerMove: (event: PointerEvent<SVGGElement>) => {
      if (!held || !box.current) return;
      move(value(event.clientY - box.current.getBoundingClientRect().top));
    },
    onPointerUp: () => setHeld(null),
    onPointerCancel: () => setHeld(null),
    onKeyDown: (event: KeyboardEvent) => {
      const step = { ArrowUp: 0.01, ArrowDown: -0.01 }[event.key];
      if (step) move(step * span + Number((event.currentTarget as SVGGElement).getAttribute("aria-valuenow")));
    },
  });
  const least = span * 0.004;
  const setLow = (to: number) => setLook(quantity, { range: [Math.min(to, high - least), high], stretch: "typed" });
  const setHigh = (to: number) => setLook(quantity, { range: [low, Math.max(to, low + least)], stretch: "typed" });
  const stops = stopsOf(look);
  const setStop = (index: number) => (to: number) => {
    const moved = stops.map((stop): Stop => [...stop]);
    const [before, after] = [moved[index - 1]?.[0] ?? 0, moved[index + 1]?.[0] ?? 1];
    const held = moved[index];
    if (held) held[0] = Math.min(Math.max((to - low) / (high - low), before + 0.01), after - 0.01);
    setLook(quantity, {
      stops: look.reversed ? moved.map(([at, colour]): Stop => [1 - at, colour]).reverse() : moved,
    });
  };
  const decimals = decimalsFor(span);
  const handle = (at: number, pointsDown: boolean) => {
    const edge = y(at);
    const back = pointsDown ? edge - 6 : edge + 6;
    return `M${BAR.x - 2} ${back}H${BAR.x + BAR.width + 2}L${BAR.x + BAR.width} ${edge}H${BAR.x}Z`;
  };
  return (
    <div className={styles.keyfill} ref={box}>
      <svg
        className={styles.keyaxis}
        width="84"
        height={height}
        viewBox={`0 0 84 ${height}`}
        role="group"
        aria-label={`Values in ${unit || "1"}`}
      >
        <defs>
          <linearGradient id="key-ramp" x1="0" x2="0" y1="1" y2="0">
            {stops.map(([place, colour]) => (
              <stop key={place} offset={place} stopColor={colour} />
            ))}
          </linearGradient>
        </defs>
        <path className={plain ? styles.hm : styles.ha} d={outline(a, y, BAR.x - 2, 2)} />
        <path className={styles.hb} d={outline(b, y, BAR.x + BAR.width + 2, 58)} />
        {marks(bottom, top, height / 46).map((mark) => (
          <g key={mark}>
            <path className={styles.tk} d={`M${BAR.x + BAR.width} ${y(mark)}h6`} />
            <text className={styles.tl} x="78" y={y(mark) + 3.5}>
              {num(mark, decimals)}
            </text>
          </g>
        ))}
        <rect x={BAR.x} width={BAR.width} y={y(top)} height={Math.max(y(bottom) - y(top), 0)} fill="#EFEBE0" />
        <rect x={BAR.x} width={BAR.width} y={y(high)} height={Math.max(y(low) - y(high), 0)} fill="url(#key-ramp)" />
        <rect className={styles.rb} x={BAR.x} width={BAR.width} y={y(top)} height={Math.max(y(bottom) - y(top), 0)} />
        {readings.map((reading, side) => {
          if (reading == null || reading < bottom || reading > top) return null;
          const from = side ? BAR.x + BAR.width : BAR.x;
          const way = side ? 1 : -1;
          const at = y(reading).toFixed(1);
          return (
            <g key={side ? "b" : "a"} data-testid={`key-reading-${side ? "b" : "a"}`}>
              <path className={styles.pl} d={`M${from + way * 6} ${at}h${way * 15}`} />
              <path
                className={`${styles.pt}${side || plain ? (plain ? "" : " b") : " a"}`}
                d={`M${from} ${at}l${way * 6} -4v8z`}
              />
            </g>
          );
        })}
        {(look.breaks ? [] : stops.slice(1, -1)).map(([place, colour], i) => {
          const at = low + place * (high - low);
          return (
            <g
              key={colour}
              className={styles.grab}
              role="slider"
              tabIndex={0}
              aria-label={`Ramp stop ${i + 2}`}
              aria-valuenow={at}
              {...drag(setStop(i + 1))}
            >
              <rect x={BAR.x - 3} width={BAR.width + 6} y={y(at) - 6} height="12" fill="transparent" />
              <circle className={styles.st} cx={BAR.x + BAR.width / 2} cy={y(at)} r="2.6" />
            </g>
          );
        })}
        {(
          [
            ["Upper end", high, true, setHigh],
            ["Lower end", low, false, setLow],
          ] as const
        ).map(([title, at, down, move]) => (
          <g
            key={title}
            className={styles.grab}
            role="slider"
            tabIndex={0}
            aria-label={title}
            aria-valuenow={at}
            aria-valuetext={`${num(at, decimals)} ${unit}`}
            {...drag(move)}
          >
            <rect x={BAR.x - 8} width={BAR.width + 16} y={y(at) - (down ? 10 : 2)} height="12" fill="transparent" />
            <path className={styles.hd} d={handle(at, down)} />
          </g>
        ))}
      </svg>
    </div>
  );
}
