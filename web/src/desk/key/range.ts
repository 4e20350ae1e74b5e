import type { Quantity, ViewFigures } from "../../api/client";
import type { Stretch } from "../store";

/** Round marks between two values, about `count` of them. */
export function marks(low: number, high: number, count: number): number[] {
  const rough = (high - low) / Math.max(count, 1);
  if (!(rough > 0)) return [low];
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((digit) => digit * power).find((value) => value >= rough) ?? rough;
  const first = Math.ceil(low / step - 1e-9);
  return Array.from({ length: Math.floor(high / step + 1e-9) - first + 1 }, (_, i) => (first + i) * step);
}

/** The range a stretch asks for; differences keep zero in the middle. */
export function rangeFor(stretch: Stretch, figures: ViewFigures[], quantity: Quantity): [number, number] | null {
  // where nearly all is one value, as in a difference of what was mended, the middle shows nothing
  const middle = stretch === "middle" && figures.some((one) => one.low2 !== one.high98);
  const lows = figures.flatMap((one) => (middle ? one.low2 : one.low) ?? []);
  const highs = figures.flatMap((one) => (middle ? one.high98 : one.high) ?? []);
  if (!lows.length || !highs.length) return null;
  const low = Math.min(...lows);
  const high = Math.max(...highs);
  if (quantity === "difference") {
    const most = Math.max(Math.abs(low), Math.abs(high), 0.01);
    return [-most, most];
  }
  return high > low ? [low, high] : [low, low + 1];
}
