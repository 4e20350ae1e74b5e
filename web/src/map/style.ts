import type { Style } from "ol/layer/WebGLTile";
import type { Quantity } from "../api/client";
import type { Look } from "../desk/store";
import { stopsOf } from "./ramps";

/** What stands for an empty cell on the GPU, where NaN is not dependable. */
export const EMPTY = -1_000_000_000;
/** Below this a cell is empty: exponents are no good in the shader's text. */
const NO_HEIGHT = -500_000_000;

type Expression = (string | number | Expression)[];

const RELIEF: Record<Quantity, number> = {
  height: 1,
  difference: 0,
  slope: 0,
  aspect: 0,
  brightness: 0,
  spread: 0,
  count: 0,
  intensity: 0,
  distance: 0,
  source: 0,
  curvature: 0,
  openness: 0,
};

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

/** Two colours, so much of the second. */
function mixed(first: Expression, second: Expression, share: number): Expression {
  return ["interpolate", ["linear"], share, 0, first, 1, second];
}

/**
 * Colour by value along the look's stops, under relief from Horn's gradients with light from the north-west at 45°.
 * A coarse surface brings its gradients in bands 2 and 3, one pair for each of its own cells.
 * Below the variable `under` a cell looks as under water, above `over` bleached.
 * Variables: `low`, `high` (the range), `cell` (metres a cell of the tiles in view), `rise` (exaggeration).
 */
export function styleOf(look: Look, quantity: Quantity, coarse: boolean): Style {
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
  let colour: Expression = ramp;
  if (RELIEF[quantity]) {
    const [east, north] = coarse
      ? [
          ["*", ["band", 2], ["var", "rise"]],
          ["*", ["band", 3], ["var", "rise"]],
        ]
      : horn();
    const light: Expression = [
      "clamp",
      [
        "/",
        ["-", ["+", Math.SQRT1_2, ["*", 0.5, east]], ["*", 0.5, north]],
        ["sqrt", ["+", 1, ["*", east, east], ["*", north, north]]],
      ],
      0,
      1,
    ];
    const shade: Expression = ["*", 255, ["+", 0.45, ["*", 0.78, light]]];
    colour = ["*", ramp, ["color", shade, shade, shade, 1]];
  }
  return {
    variables: { low: look.range[0], high: look.range[1], cell: 1, rise: 1, under: NO_HEIGHT, over: -NO_HEIGHT },
    color: [
      "case",
      ["<", ["band", 1], NO_HEIGHT],
      ["color", 0, 0, 0, 0],
      ["<", ["band", 1], ["var", "under"]],
      mixed(colour, ["color", 27, 100, 112, 1], 0.62),
      [">", ["band", 1], ["var", "over"]],
      mixed(colour, ["color", 245, 243, 236, 1], 0.6),
      colour,
    ],
  };
}
