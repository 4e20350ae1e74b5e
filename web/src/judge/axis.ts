/** The common axis of errors: even, or stretched near zero; as the core's `Axis` places them. */
export interface Axis {
  reach: number;
  /** Up to which it is about even; 0 where it is even all along. */
  knee: number;
}

/** From 0 at its left end to 1; what is beyond either end stands there. */
export function along({ reach, knee }: Axis, error: number): number {
  const place = knee ? Math.asinh(error / knee) / Math.asinh(reach / knee) : error / reach;
  return (Math.min(Math.max(place, -1), 1) + 1) / 2;
}

const STEPS = [1, 2, 5];
const APART = 0.14; // of the axis between two ticks at least

/** Errors at which the axis has ticks, round ones, from its left to its right end. */
export function ticks(axis: Axis): number[] {
  const found: number[] = [];
  for (let power = 10 ** Math.ceil(Math.log10(axis.reach)); power > axis.reach / 10_000; power /= 10)
    for (const step of [...STEPS].reverse()) {
      const value = step * power;
      if (value > axis.reach * 1.0001) continue;
      const last = found.at(-1);
      const near = last === undefined ? 1 : along(axis, last) - along(axis, value);
      if (near >= APART * (last === undefined ? 0 : 1) && along(axis, value) - 0.5 >= APART) found.push(value);
    }
  return [...found.map((one) => -one), 0, ...found.reverse()];
}
