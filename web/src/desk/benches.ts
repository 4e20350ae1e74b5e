import type { ToolKind } from "../tools/tool";

/** What stands in the middle of the desk. */
export type BenchName = "map" | "scene" | "pair";

/** What a bench obeys: controls that it does not obey are not offered while it is in front. */
export interface Bench {
  title: string;
  /** Which of the pointer's tools work on it. */
  tools: ToolKind[];
  /** Whether the ways of comparing A with B, and their keys, work on it. */
  compares: boolean;
  /** What stands in the place of readings where the pointer reads none; null where it reads. */
  instead: string | null;
}

export const BENCHES: Record<BenchName, Bench> = {
  map: {
    title: "Map",
    tools: ["read", "area", "line", "pick", "box", "freehand", "brush", "vertices", "edit"],
    compares: true,
    instead: null,
  },
  pair: { title: "Image pair", tools: ["read"], compares: false, instead: null },
  scene: {
    title: "Three dimensions",
    tools: [],
    compares: false,
    instead: "Drag to move, right button to turn, wheel to come near; arrows and + − do the same.",
  },
};
