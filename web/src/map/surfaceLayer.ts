import TileLayer from "ol/layer/WebGLTile";
import { Projection } from "ol/proj";
import DataTile from "ol/source/DataTile";
import TileGrid from "ol/tilegrid/TileGrid";
import { bytes, type Grid, type Quantity } from "../api/client";
import type { Look } from "../desk/store";
import { EMPTY, styleOf } from "./style";

const TILE = 256;
const SIDE = TILE + 2;

export type SurfaceLayer = TileLayer;

export function extentOf(grid: Grid): [number, number, number, number] {
  return [grid.west, grid.north - grid.rows * grid.cell_height, grid.west + grid.cols * grid.cell_width, grid.north];
}

/** How many times the frame's cells are doubled until one tile holds them all. */
export function topLevel(grid: Grid): number {
  return Math.max(0, Math.ceil(Math.log2(Math.max(grid.rows, grid.cols) / TILE)));
}

const projections = new Map<string, Projection>();

/** The frame's CRS as a plain plane: every coordinate on the map is in it, so nothing is transformed here. */
export function projectionOf(grid: Grid): Projection {
  const code = `frame:${grid.crs}:${extentOf(grid).join()}`;
  let projection = projections.get(code);
  if (!projection) {
    projection = new Projection({ code, units: "m", extent: extentOf(grid) });
    projections.set(code, projection);
  }
  return projection;
}

/** Metres a cell at the level that is drawn at a resolution. */
export function drawnCell(grid: Grid, resolution: number): number {
  const level = Math.round(Math.log2(Math.max(resolution / grid.cell_width, 1)));
  return grid.cell_width * 2 ** Math.min(level, topLevel(grid));
}

/** Relief keeps its strength in wide views, as the core's small pictures do. */
export function riseAt(cell: number): number {
  return Math.min(Math.max(cell / 8, 1), 4);
}

/** A surface on the map: float cells from the service, coloured and lit on the GPU. */
export function surfaceLayer(
  projectId: number,
  key: string,
  grid: Grid,
  look: Look,
  quantity: Quantity,
  coarse: boolean,
): SurfaceLayer {
  const top = topLevel(grid);
  const bands = coarse ? 3 : 1;
  const resolutions = Array.from({ length: top + 1 }, (_, z) => grid.cell_width * 2 ** (top - z));
  const source = new DataTile({
    projection: projectionOf(grid),
    tileGrid: new TileGrid({
      extent: extentOf(grid),
      origin: [grid.west, grid.north],
      resolutions,
      tileSize: TILE,
    }),
    gutter: 1,
    bandCount: bands,
    interpolate: false,
    transition: 0,
    wrapX: false,
    loader: async (z: number, x: number, y: number) => {
      const body = await bytes(`/projects/${projectId}/tiles/${key}/${top - z}/${x}/${y}`);
      const cells = body ? new Float32Array(body) : new Float32Array(SIDE * SIDE * bands).fill(EMPTY);
      for (let i = 0; i < cells.length; i++) if (Number.isNaN(cells[i])) cells[i] = EMPTY;
      return cells;
    },
  });
  return new TileLayer({ source, style: styleOf(look, quantity, coarse), cacheSize: 160 });
}
