import type { Grid, ImageHolding, PairLook } from "../api/client";
import type { Space } from "../map/space";
import type { TilePath } from "../map/tilePath";
import { type Model, reached, seen } from "./rays";

type Plane = PairLook["plane"];

/** An image as a pane shows it: its tiles, the cells they have, and where its columns and rows lie among these. */
export interface Shown {
  /** Names what is drawn: with another the layer is another. */
  name: string;
  grid: Grid;
  space: Space;
  path: TilePath;
}

/** Cells of 1: columns run right, rows down. */
export const gridOf = (name: string, rows: number, cols: number): Grid => ({
  crs: name,
  west: 0,
  north: rows,
  cell_width: 1,
  cell_height: 1,
  rows,
  cols,
});

/** The space of cells: places are columns and rows, whole numbers at the middle of cells. */
export const imageSpace = (rows: number): Space => ({
  toPane: ([col = 0, row = 0]) => [col + 0.5, rows - 0.5 - row],
  toPlace: ([x = 0, y = 0]) => [x - 0.5, rows - 0.5 - y],
});

/** Column and row of a plane at a longitude and latitude; see the core's `Plane.place`. */
export function placeOn(plane: Plane, [lon, lat]: readonly [number, number]): [number, number] {
  const [east, north] = [(lon - plane.lon) * plane.metres[0], (lat - plane.lat) * plane.metres[1]];
  const [sin, cos] = [Math.sin(plane.turn), Math.cos(plane.turn)];
  return [(east * cos + north * sin) / plane.cell, (east * sin - north * cos) / plane.cell];
}

/** Longitude and latitude of a plane's column and row. */
export function groundOf(plane: Plane, [col, row]: readonly [number, number]): [number, number] {
  const [sin, cos] = [Math.sin(plane.turn), Math.cos(plane.turn)];
  const [across, down] = [col * plane.cell, row * plane.cell];
  return [
    plane.lon + (across * cos + down * sin) / plane.metres[0],
    plane.lat + (across * sin - down * cos) / plane.metres[1],
  ];
}

/** An image's columns and rows where they lie on the epipolar plane: ground of the plane's height lies in its place. */
export function planeSpace(plane: Plane, model: Model): Space {
  const cells = imageSpace(plane.rows);
  return {
    toPane: ([col = 0, row = 0]) => {
      const place = reached(model, col, row, plane.height);
      return place ? cells.toPane(placeOn(plane, place)) : [Number.NaN, Number.NaN];
    },
    toPlace: (at) => {
      const [col = 0, row = 0] = cells.toPlace(at);
      return seen(model, ...groundOf(plane, [col, row]), plane.height);
    },
  };
}

/** An image as it was taken. */
export function asTaken(project: number, { id, image }: ImageHolding): Shown {
  return {
    name: `image ${id}`,
    grid: gridOf(`image ${id}`, image.rows, image.cols),
    space: imageSpace(image.rows),
    path: (_, level, col, row) => `/projects/${project}/images/${id}/tiles/${level}/${col}/${row}`,
  };
}

/** One of two images on the plane on whose rows both show the same ground. */
export function onPlane(
  project: number,
  asked: { left: ImageHolding; right: ImageHolding; model: number | null },
  side: "left" | "right",
  look: PairLook,
): Shown {
  const pair = `${asked.left.id}/${asked.right.id}`;
  const model = asked.model === null ? "" : `?model=${asked.model}`;
  const name = `plane ${pair} ${side}${model}`;
  return {
    name,
    grid: gridOf(name, look.plane.rows, look.plane.cols),
    space: planeSpace(look.plane, look[side]),
    path: (_, level, col, row) => `/projects/${project}/pairs/${pair}/${side}/${level}/${col}/${row}${model}`,
  };
}
