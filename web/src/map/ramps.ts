import type { Look } from "../desk/store";
import table from "./ramps.json";

export type Stop = [number, string];

/** The ramps of the core, by name. */
export const RAMPS = table as unknown as Record<string, Stop[]>;

/** Colours of things that are counted, the first thing first: one for each step of the ramp of that name. */
export const PATCHES: string[] = (RAMPS.Patchwork ?? []).filter((_, i) => i % 2 === 0).map(([, colour]) => colour);

/** The colour of the thing with that number, counted from 0. */
export const patchOf = (number: number): string => PATCHES[Math.min(number, PATCHES.length - 1)] ?? "#8C8472";

/** The stops of a look: its own places where somebody moved them. */
export function stopsOf(look: Look): Stop[] {
  const stops = RAMPS[look.ramp] ?? RAMPS.Foreshore ?? [];
  if (look.places?.length !== stops.length) return stops;
  return stops.map(([, colour], i) => [look.places?.[i] ?? 0, colour]);
}

/** A CSS gradient from the lowest value at the bottom. */
export function gradientOf(look: Look): string {
  return `linear-gradient(to top, ${stopsOf(look)
    .map(([place, colour]) => `${colour} ${place * 100}%`)
    .join(", ")})`;
}
