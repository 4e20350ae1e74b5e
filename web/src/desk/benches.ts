import type { ToolKind } from "../tools/tool";

/** What stands in the middle of the desk. */
export type BenchName = "map" | "scene" | "pair" | "scorecard";

/** What a bench obeys: controls that it does not obey are not offered while it is in front. */
export interface Bench {
  title: string;
  /** Which of the pointer's tools work on it. */
  tools: ToolKind[];
  /** Whether the ways of comparing A with B, and their keys, work on it. */
  compares: boolean;
  /** What stands in the place of readings while the pointer reads none; where null, what the tool in hand says of itself. */
  rest: string | null;
}

export const BENCHES: Record<BenchName, Bench> = {
  map: {
    title: "Map",
    tools: ["read", "area", "line", "pick", "box", "freehand", "brush", "vertices", "edit"],
    compares: true,
    rest: null,
  },
  scorecard: {
    title: "Scorecard",
    tools: ["read"],
    compares: false,
    rest: "Press a figure of a class: its points are told here, and shown on the map.",
  },
  pair: { title: "Image pair", tools: ["read"], compares: false, rest: null },
  scene: {
    title: "Three dimensions",
    tools: ["read", "area", "line", "pick", "box", "freehand", "brush", "vertices"],
    compares: false,
    rest: "Drag to move, right button to turn, wheel to come near; arrows and + − do the same.",
  },
};
