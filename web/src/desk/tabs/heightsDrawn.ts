import type { Distribution } from "../../api/client";
import { num } from "../format";
import { ticks } from "./profileChart";

/** One histogram of the chart: of A, of B, or of their difference. */
export interface Bars {
  name: "A" | "B" | "A − B";
  colour: string;
  of: Distribution;
}

const [LEFT, RIGHT, TOP, BOTTOM] = [10, 10, 16, 19];
const FIGURES = '10.5px "Spline Sans Mono Variable", monospace';
const [INK, MUTED, LAKE] = ["#1F2A30", "#5E6A70", "#1B6470"];

/** The values the chart spans: all histograms, and the levels where they are shown. */
export function spanOf(bars: Bars[], levels: [number, number] | null): [number, number] {
  const filled = bars.filter(({ of }) => of.mean !== null);
  let low = Math.min(...filled.map(({ of }) => of.first), ...(levels ?? []));
  let high = Math.max(...filled.map(({ of }) => of.last), ...(levels ?? []));
  if (!Number.isFinite(low) || !Number.isFinite(high)) return [0, 1];
  const air = Math.max((high - low) * 0.02, 1e-3);
  [low, high] = [low - air, high + air];
  return [low, high];
}

/** Where a value stands in a chart of that width, and back. */
export const xOf = (value: number, [low, high]: [number, number], width: number) =>
  LEFT + ((value - low) / (high - low)) * (width - LEFT - RIGHT);
export const valueAt = (x: number, [low, high]: [number, number], width: number) =>
  low + ((x - LEFT) / Math.max(width - LEFT - RIGHT, 1)) * (high - low);

/** Histograms over one axis, as shares of their own cells, so that a surface of few cells is seen beside one of many. */
export function drawHeights(
  context: CanvasRenderingContext2D,
  width: number,
  height: number,
  bars: Bars[],
  unit: string,
  span: [number, number],
  levels: [number, number] | null,
): void {
  context.clearRect(0, 0, width, height);
  const floor = height - BOTTOM;
  const x = (value: number) => xOf(value, span, width);
  context.font = FIGURES;
  context.textBaseline = "top";
  const marks = ticks(span[0], span[1], Math.max(Math.floor(width / 90), 2));
  const step = (marks[1] ?? 1) - (marks[0] ?? 0);
  marks.forEach((mark) => {
    context.fillStyle = "rgba(31,42,48,0.12)";
    context.fillRect(Math.round(x(mark)), TOP, 1, floor - TOP);
    context.fillStyle = MUTED;
    context.textAlign = x(mark) > width - 40 ? "right" : x(mark) < 30 ? "left" : "center";
    context.fillText(`${num(mark, step < 0.1 ? 2 : step < 1 ? 1 : 0)} ${unit}`, x(mark), floor + 5);
  });
  // how dense cells lie, per unit of height: bins of two surfaces need not be equally wide
  const dense = bars.map(({ of }) => {
    const all = Math.max(of.cells - of.empty, 1);
    const bin = (of.last - of.first) / of.counts.length;
    return of.counts.map((count) => count / all / bin);
  });
  const most = Math.max(...dense.flat(), 1e-12);
  bars.forEach(({ of, colour }, i) => {
    if (of.mean === null) return;
    const bin = (of.last - of.first) / of.counts.length;
    const tall = (share: number) => floor - Math.sqrt(share / most) * (floor - TOP);
    context.beginPath();
    context.moveTo(x(of.first), floor);
    dense[i]?.forEach((share, n) => {
      context.lineTo(x(of.first + n * bin), tall(share));
      context.lineTo(x(of.first + (n + 1) * bin), tall(share));
    });
    context.lineTo(x(of.last), floor);
    context.globalAlpha = 0.28;
    context.fillStyle = colour;
    context.fill();
    context.globalAlpha = 1;
    context.strokeStyle = colour;
    context.lineWidth = 1.2;
    context.stroke();
    // the middle, where the name stands
    const middle = x(of.quantiles[3] ?? of.mean);
    context.fillStyle = colour;
    context.fillRect(middle - 0.5, TOP, 1, floor - TOP);
    context.textAlign = i ? "left" : "right";
    context.fillText(`${bars[i]?.name}`, middle + (i ? 4 : -4), 2);
  });
  context.fillStyle = INK;
  context.fillRect(LEFT, floor, width - LEFT - RIGHT, 1);
  if (!levels) return;
  context.fillStyle = "rgba(27,100,112,0.16)";
  context.fillRect(LEFT, TOP, Math.max(x(levels[0]) - LEFT, 0), floor - TOP);
  context.fillStyle = LAKE;
  for (const level of levels) {
    context.fillRect(x(level) - 1, TOP - 4, 2, floor - TOP + 4);
    context.fillRect(x(level) - 4, TOP - 8, 8, 6);
  }
}
