import type { Profile } from "../../api/client";
import { num } from "../format";

/** One surface in a profile: how it is called and drawn. */
export interface Series {
  key: string;
  name: string;
  colour: string;
  heights: (number | null)[];
}

const [LEFT, RIGHT, TOP, BOTTOM] = [46, 10, 8, 20];
const GRID = "rgba(31,42,48,0.14)";
const INK = "#1F2A30";
const MUTED = "#5E6A70";
const FIGURES = '10.5px "Spline Sans Mono Variable", monospace';

/** Round values that part a range into about so many. */
export function ticks(low: number, high: number, about: number): number[] {
  if (!(high > low)) return [low];
  const raw = (high - low) / about;
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = ([1, 2, 5, 10].find((factor) => factor * power >= raw) ?? 10) * power;
  const first = Math.ceil(low / step - 1e-9);
  const last = Math.floor(high / step + 1e-9);
  return Array.from({ length: Math.max(last - first + 1, 0) }, (_, i) => (first + i) * step);
}

/** Lowest and highest of all series with a little air; null where nothing has a height. */
export function rangeOf(series: Series[]): [number, number] | null {
  let [low, high] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
  for (const { heights } of series)
    for (const height of heights)
      if (height !== null) {
        low = Math.min(low, height);
        high = Math.max(high, height);
      }
  if (low > high) return null;
  const air = Math.max((high - low) * 0.06, 0.05);
  return [low - air, high + air];
}

/** The number of the place under a share of the chart's width, 0 at its left edge. */
export function placeAt(x: number, width: number, count: number): number {
  const share = (x - LEFT) / Math.max(width - LEFT - RIGHT, 1);
  return Math.round(Math.min(Math.max(share, 0), 1) * (count - 1));
}

/** The number of the place on the line nearest to one on the map; null where it is farther than `within`. */
export function placeNear(
  { x, y }: Pick<Profile, "x" | "y">,
  [px, py]: [number, number],
  within: number,
): number | null {
  let [best, found] = [within * within, -1];
  for (let i = 0; i < x.length; i++) {
    const apart = ((x[i] as number) - px) ** 2 + ((y[i] as number) - py) ** 2;
    if (apart < best) [best, found] = [apart, i];
  }
  return found < 0 ? null : found;
}

/** How many times heights are drawn larger than lengths. */
export function exaggeration(length: number, range: [number, number], width: number, height: number): number {
  const across = (width - LEFT - RIGHT) / length;
  return (height - TOP - BOTTOM) / (range[1] - range[0]) / across;
}

/** Gradient about a place in per cent, from the place before it to that after it; null at a gap. */
export function gradientAt(heights: (number | null)[], at: number, distance: number[]): number | null {
  const [before, after] = [Math.max(at - 1, 0), Math.min(at + 1, heights.length - 1)];
  const [low, high] = [heights[before], heights[after]];
  if (low == null || high == null || before === after) return null;
  return ((high - low) / ((distance[after] as number) - (distance[before] as number))) * 100;
}

const metres = (value: number) => (value >= 10_000 ? `${num(value / 1000, 1)} km` : `${num(value)} m`);

/** The chart on a canvas of `width` x `height` points; `at` is the place under the pointer. */
export function drawProfile(
  context: CanvasRenderingContext2D,
  width: number,
  height: number,
  { distance }: Pick<Profile, "distance">,
  series: Series[],
  unit: string,
  at: number | null = null,
): void {
  context.clearRect(0, 0, width, height);
  const range = rangeOf(series);
  const length = distance.at(-1) ?? 0;
  context.font = FIGURES;
  context.lineWidth = 1;
  if (!range || !length) {
    context.fillStyle = MUTED;
    context.fillText("No surface has a height along this line.", LEFT, height / 2);
    return;
  }
  const [low, high] = range;
  const x = (value: number) => LEFT + (value / length) * (width - LEFT - RIGHT);
  const y = (value: number) => TOP + ((high - value) / (high - low)) * (height - TOP - BOTTOM);
  context.textBaseline = "middle";
  context.textAlign = "right";
  const marks = ticks(low, high, Math.max(Math.floor((height - TOP - BOTTOM) / 26), 2));
  const decimals = (marks[1] ?? 1) - (marks[0] ?? 0) < 1 ? 1 : 0;
  for (const value of marks) {
    context.strokeStyle = GRID;
    context.beginPath();
    context.moveTo(LEFT, Math.round(y(value)) + 0.5);
    context.lineTo(width - RIGHT, Math.round(y(value)) + 0.5);
    context.stroke();
    context.fillStyle = MUTED;
    context.fillText(`${num(value, decimals)} ${unit}`, LEFT - 5, y(value));
  }
  context.textBaseline = "alphabetic";
  for (const value of ticks(0, length, Math.max(Math.floor((width - LEFT) / 110), 2))) {
    context.textAlign = value === 0 ? "left" : x(value) > width - 40 ? "right" : "center";
    context.fillStyle = MUTED;
    context.fillText(metres(value), x(value), height - 5);
  }
  for (const { heights, colour } of series) {
    context.strokeStyle = colour;
    context.lineWidth = 1.6;
    context.lineJoin = "round";
    context.beginPath();
    let gap = true;
    heights.forEach((value, i) => {
      if (value === null) {
        gap = true;
        return;
      }
      const [px, py] = [x(distance[i] as number), y(value)];
      if (gap) context.moveTo(px, py);
      else context.lineTo(px, py);
      gap = false;
    });
    context.stroke();
  }
  if (at === null) return;
  const px = x(distance[at] as number);
  context.strokeStyle = INK;
  context.lineWidth = 1;
  context.beginPath();
  context.moveTo(px, TOP);
  context.lineTo(px, height - BOTTOM);
  context.stroke();
  for (const { heights, colour } of series) {
    const value = heights[at];
    if (value == null) continue;
    context.fillStyle = colour;
    context.beginPath();
    context.arc(px, y(value), 3.4, 0, 7);
    context.fill();
  }
}

/** A name as a cell of a table: quoted, and never a formula. */
export const cell = (text: string) => `"${(/^[=+\-@\t\r]/.test(text) ? `'${text}` : text).replaceAll('"', '""')}"`;

/** The profile as a table: distance, x, y and a column for each surface; empty where it has no height. */
export function csvOf(profile: Profile, series: Series[], unit: string): string {
  const head = ["distance m", "x", "y", ...series.map(({ name }) => `${name} ${unit}`)].map(cell).join(",");
  const rows = profile.distance.map((distance, i) =>
    [distance, profile.x[i], profile.y[i], ...series.map(({ heights }) => heights[i] ?? "")].join(","),
  );
  return `${[head, ...rows].join("\n")}\n`;
}
