import type { Style } from "ol/layer/WebGLTile";
import type { Quantity } from "../api/client";
import type { Light, Look } from "../desk/store";
import QUANTITIES from "./quantities.json";
import { stopsOf } from "./ramps";

/** What stands for an empty cell on the GPU, where NaN is not dependable. */
export const EMPTY = -1_000_000_000;
/** Below this a cell is empty: exponents are no good in the shader's text. */
const NO_HEIGHT = -500_000_000;

type Expression = (string | number | Expression)[];

/** Whether a quantity is drawn under relief. */
export const isLit = (quantity: Quantity): boolean => QUANTITIES[quantity].lit;

/** A neighbour's height, or the cell's own where the neighbour is empty, as in the core's Horn gradients. */
function at(dx: number, dy: number): Expression {
  const here: Expression = ["band", 1];
  const there: Expression = ["band", 1, dx, dy];
  return ["case", ["<", there, NO_HEIGHT], here, there];
}

/** Rise per metre towards east and north, exaggerated. */
function horn(): [Expression, Expression] {
  const scale: Expression = ["/", ["var", "rise"], ["*", 8, ["var", "cell"]]];
  const sides = (a: Expression, b: Expression, middle: Expression): Expression => ["+", a, b, ["*", 2, middle]];
  return [
    ["*", sides(["-", at(1, -1), at(-1, -1)], ["-", at(1, 1), at(-1, 1)], ["-", at(1, 0), at(-1, 0)]), scale],
    ["*", sides(["-", at(-1, -1), at(-1, 1)], ["-", at(1, -1), at(1, 1)], ["-", at(0, -1), at(0, 1)]), scale],
  ];
}

/** A square that names its number once: what stands twice is computed twice, and gradients are dear. */
const squared = (value: Expression): Expression => ["^", ["abs", value], 2];

/** How much brighter or darker than level ground full light makes a colour; as in the core's pictures. */
const STRENGTH = 0.78;

/** The same of a full tone; as in the core's `tone`. */
export const TONE = 0.6;

/** Brightness of one light, times the steepness: `east` and `north` of the light are 0 where it is overhead. */
function oneLight(east: Expression, north: Expression): Expression {
  return ["-", ["var", "up"], ["+", ["*", ["var", "east"], east], ["*", ["var", "north"], north]]];
}

/** The same of four lights, each weighted by how much it grazes the ground; the core's `slope.Light` says whence. */
function fourLights(east: Expression, north: Expression): Expression {
  const p: Expression = ["+", ["*", east, ["var", "east"]], ["*", north, ["var", "north"]]];
  const q: Expression = ["-", ["*", east, ["var", "north"]], ["*", north, ["var", "east"]]];
  // p and q carry the cosine of the altitude, `level`, which the weight does not
  const steep: Expression = ["+", squared(east), squared(north), 0.000001];
  const weight: Expression = ["/", squared(["/", p, ["var", "level"]]), steep];
  const graze: Expression = ["+", ["*", 1 - Math.SQRT1_2, p], ["*", weight, ["-", ["*", Math.SQRT2 - 1, p], q]]];
  return ["-", ["var", "up"], ["*", 0.5, graze]];
}

/** The numbers of a light that the shader takes. */
export function lightOf({ azimuth, altitude, strength, depth }: Light): Record<string, number> {
  const [turn, rise] = [(azimuth * Math.PI) / 180, (altitude * Math.PI) / 180];
  const level = Math.cos(rise);
  return {
    east: level * Math.sin(turn),
    north: level * Math.cos(turn),
    level: Math.max(level, 1e-4),
    up: Math.sin(rise),
    strength,
    depth,
  };
}

/** Two colours, so much of the second. */
function mixed(first: Expression, second: Expression, share: number): Expression {
  return ["interpolate", ["linear"], share, 0, first, 1, second];
}

/**
 * Colour by value along the look's stops, under relief from Horn's gradients.
 * A coarse surface brings its gradients in bands 2 and 3, one pair for each of its own cells. With a shade its tone is in the band
 * after those.
 * Below the variable `under` a cell looks as under water, above `over` bleached.
 * Variables: `low`, `high` (the range), `cell` (metres a cell of the tiles in view), `rise` (exaggeration),
 * and those of `lightOf`, so that a turned light asks for no other tiles and no other shader.
 */
export function styleOf(look: Look, quantity: Quantity, coarse: boolean, light: Light): Style {
  const share: Expression = [
    "clamp",
    ["/", ["-", ["band", 1], ["var", "low"]], ["-", ["var", "high"], ["var", "low"]]],
    0,
    1,
  ];
  let last = -1;
  const ramp: Expression = ["interpolate", ["linear"], share];
  for (const [place, colour] of stopsOf(look)) {
    const at = Math.max(place, last + 1e-4); // equal places would divide by zero
    ramp.push(at, colour);
    last = at;
  }
  let colour: Expression = [
    "case",
    ["<", ["band", 1], ["var", "under"]],
    mixed(ramp, ["color", 27, 100, 112, 1], 0.62),
    [">", ["band", 1], ["var", "over"]],
    mixed(ramp, ["color", 245, 243, 236, 1], 0.6),
    ramp,
  ];
  if (isLit(quantity)) {
    const [east, north] = coarse
      ? [
          ["*", ["band", 2], ["var", "rise"]],
          ["*", ["band", 3], ["var", "rise"]],
        ]
      : horn();
    const lit = light.several ? fourLights(east, north) : oneLight(east, north);
    const steep: Expression = ["sqrt", ["+", 1, squared(east), squared(north)]];
    const bright: Expression = ["clamp", ["/", lit, steep], 0, 1];
    const darker = (most: number, share: string, by: Expression): Expression => [
      "clamp",
      ["+", 1, ["*", most, ["var", share], by]],
      0,
      10,
    ];
    const relief = darker(STRENGTH, "strength", ["-", bright, ["var", "up"]]);
    const toned: Expression =
      light.shade === "none" ? relief : ["*", relief, darker(TONE, "depth", ["band", coarse ? 4 : 2])];
    const shade: Expression = ["*", 255, toned];
    colour = ["*", colour, ["color", shade, shade, shade, 1]];
  }
  return {
    variables: {
      ...lightOf(light),
      low: look.range[0],
      high: look.range[1],
      cell: 1,
      rise: 1,
      under: NO_HEIGHT,
      over: -NO_HEIGHT,
    },
    color: ["case", ["<", ["band", 1], NO_HEIGHT], ["color", 0, 0, 0, 0], colour],
  };
}
