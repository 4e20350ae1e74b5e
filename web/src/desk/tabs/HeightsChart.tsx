import { useEffect, useState } from "react";
import { decimalsFor } from "../format";
import { useDesk } from "../store";
import { type Bars, drawHeights, spanOf, valueAt, xOf } from "./heightsDrawn";
import { useChart } from "./useChart";

interface ChartProps {
  bars: Bars[];
  unit: string;
  levels: [number, number] | null;
  /** Whether the levels are of what the map shows. */
  mapped: boolean;
  onMove: (levels: [number, number]) => void;
  onKeep: (levels: [number, number]) => void;
}

/** Histograms with two levels that can be dragged; the map follows them. */
export function HeightsChart({ bars, unit, levels, mapped, onMove, onKeep }: ChartProps) {
  const [held, setHeld] = useState<{ which: 0 | 1; span: [number, number] } | null>(null);
  const span = held?.span ?? spanOf(bars, levels);
  const { canvas, size } = useChart((context, width, height) =>
    drawHeights(context, width, height, bars, unit, span, levels),
  );
  // levels that are being dragged show on the map at once
  const set = useDesk((desk) => desk.set);
  const [low, high] = (mapped && levels) || [null, null];
  useEffect(() => {
    set({ levels: low === null || high === null ? null : [low, high] });
  }, [low, high, set]);
  useEffect(() => () => set({ levels: null }), [set]);
  const decimals = Math.max(decimalsFor(span[1] - span[0]), 0) + 1;
  const to = (x: number): [number, number] | null => {
    if (!held || !levels) return null;
    const value = Number(valueAt(x, span, size[0]).toFixed(decimals));
    return held.which ? [Math.min(value, levels[0]), value] : [value, Math.max(value, levels[1])];
  };
  return (
    <div className="chart">
      <canvas
        ref={canvas}
        role="img"
        aria-label="Histogram"
        className={levels ? "levels" : ""}
        onPointerDown={(event) => {
          if (!levels) return;
          const x = event.clientX - event.currentTarget.getBoundingClientRect().left;
          // the nearer one; where both stand at one place the side says which is meant
          const [lower, upper] = [xOf(levels[0], span, size[0]), xOf(levels[1], span, size[0])];
          const which = x < (lower + upper) / 2 ? 0 : 1;
          event.currentTarget.setPointerCapture(event.pointerId);
          setHeld({ which, span });
        }}
        onPointerMove={(event) => {
          const next = to(event.clientX - event.currentTarget.getBoundingClientRect().left);
          if (next) onMove(next);
        }}
        onPointerUp={(event) => {
          const next = to(event.clientX - event.currentTarget.getBoundingClientRect().left);
          setHeld(null);
          if (next) onKeep(next);
        }}
        onPointerCancel={() => setHeld(null)}
      />
    </div>
  );
}
