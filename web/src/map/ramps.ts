import type { Light, Look } from "../desk/store";
import table from "./ramps.json";

export type Stop = [number, string];

/** The ramps of the core, by name. */
export const RAMPS = table as unknown as Record<string, Stop[]>;

/** Colours of things that are counted, the first thing first: one for each step of the ramp of that name. */
export const PATCHES: string[] = (RAMPS.Patchwork ?? []).filter((_, i) => i % 2 === 0).map(([, colour]) => colour);

/** The colour of the thing with that number, counted from 0. */
export const patchOf = (number: number): string => PATCHES[Math.min(number, PATCHES.length - 1)] ?? "#8C8472";

const channels = (colour: string) => [1, 3, 5].map((at) => Number.parseInt(colour.slice(at, at + 2), 16));

/** The colour at a place along stops. */
export function colourAt(stops: Stop[], place: number): string {
  const after = stops.findIndex(([at]) => at >= place);
  if (after <= 0) return (after === 0 ? stops[0] : stops.at(-1))?.[1] ?? "#000000";
  const [[low, from], [high, to]] = [stops[after - 1] as Stop, stops[after] as Stop];
  const share = (place - low) / Math.max(high - low, 1e-9);
  const [first, second] = [channels(from), channels(to)];
  return `#${first
    .map((value, i) =>
      Math.round(value + share * ((second[i] ?? 0) - value))
        .toString(16)
        .padStart(2, "0"),
    )
    .join("")
    .toUpperCase()}`;
}

/** The stops a look begins with: its own, or its ramp's. */
export const ownStops = (look: Look): Stop[] => look.stops ?? RAMPS[look.ramp] ?? RAMPS.Foreshore ?? [];

/** The stops of a look from the lowest value: turned about where it is reversed, in steps where it has classes. */
export function stopsOf(look: Look): Stop[] {
  let stops = ownStops(look);
  if (look.reversed) stops = stops.map(([at, colour]): Stop => [1 - at, colour]).reverse();
  const [low, high] = look.range;
  const breaks = (look.breaks ?? [])
    .map((value) => (value - low) / (high - low))
    .filter((at) => at > 0 && at < 1)
    .sort((one, other) => one - other);
  if (!look.breaks) return stops;
  const edges = [0, ...breaks, 1];
  return edges.slice(1).flatMap((end, i): Stop[] => {
    // the first class takes the first colour, the last the last
    const colour = colourAt(stops, edges.length > 2 ? i / (edges.length - 2) : 0.5);
    return [
      [edges[i] as number, colour],
      [end < 1 ? Math.max(end - 1e-4, edges[i] as number) : 1, colour],
    ];
  });
}

/** A CSS gradient from the lowest value at the bottom. */
export function gradientOf(look: Look): string {
  return `linear-gradient(to top, ${stopsOf(look)
    .map(([place, colour]) => `${colour} ${place * 100}%`)
    .join(", ")})`;
}

/** A look as the service draws it, in reports, pictures and tiles for other programs. */
export const dressOf = (look: Look, light: Light, lit: boolean) => ({
  stops: stopsOf(look),
  low: look.range[0],
  high: look.range[1],
  azimuth: light.azimuth,
  altitude: light.altitude,
  several: light.several,
  exaggeration: light.rise,
  strength: light.strength,
  shade: light.shade,
  depth: light.depth,
  lit,
});

/** Round values that part a range into about so many classes. */
export function breaksFor([low, high]: [number, number], classes: number): number[] {
  const rough = (high - low) / classes;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 2.5, 5, 10].map((digit) => digit * power).find((value) => value >= rough * 0.85) ?? rough;
  const first = Math.floor(low / step + 1e-9) + 1;
  const count = Math.max(Math.ceil(high / step - 1e-9) - first, 0);
  return Array.from({ length: count }, (_, i) => Number(((first + i) * step).toPrecision(9)));
}
