import type { Grid } from "../api/client";
import type { Place } from "./shapes";
import { originOf } from "./surfaceLayer";

/**
 * How a pane's coordinates stand to places. Panes count from the corner of what they show, since the GPU's numbers are too
 * short for coordinates of a CRS.
 */
export interface Space {
  /** A place, in the coordinates of the pane. */
  toPane: (place: readonly number[]) => Place;
  /** The place of the pane's coordinates. */
  toPlace: (at: readonly number[]) => Place;
}

/** The space of a grid: places are in its CRS. */
export function gridSpace(grid: Grid): Space {
  const [west, south] = originOf(grid);
  return {
    toPane: ([x = 0, y = 0]) => [x - west, y - south],
    toPlace: ([x = 0, y = 0]) => [x + west, y + south],
  };
}
