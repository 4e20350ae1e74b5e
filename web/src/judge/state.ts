import { create } from "zustand";

/** A part of a row: a surface, and numbers of classes; all of it where they are null. */
export interface Pressed {
  surface: number;
  part: number | null;
  second: number | null;
  outliers: boolean;
}

export type Sorted = "count" | "mean" | "nmad" | "rmse" | "le95";

interface JudgeState {
  /** Whether shifts are taken off before surfaces are judged. */
  removed: boolean;
  /** Against which; the best of them where null. */
  onto: number | null;
  /** Whether classes are weighed by the ground that they cover. */
  byArea: boolean;
  /** Whether the axis is even all along. */
  even: boolean;
  /** The surface whose row is unfolded. */
  unfolded: number | null;
  pressed: Pressed | null;
  sorted: Sorted;
  /** The polygons that say what covers the ground, by number; null is none, undefined those that are called land cover. */
  cover: number | null | undefined;
  /** What stands on the bench: the rows, or errors against slope. */
  plot: "rows" | "slopes";
  set: (change: Partial<JudgeState>) => void;
}

/** What the scorecard shows, for as long as the page is open. */
export const useJudgeState = create<JudgeState>((set) => ({
  removed: false,
  onto: null,
  byArea: false,
  even: false,
  unfolded: null,
  pressed: null,
  sorted: "le95",
  cover: undefined,
  plot: "rows",
  set,
}));
