import { buffer } from "ol/extent";
import TileLayer from "ol/layer/WebGLTile";
import { Projection } from "ol/proj";
import DataTile from "ol/source/DataTile";
import TileGrid from "ol/tilegrid/TileGrid";
import { bytes, type Grid, type Quantity } from "../api/client";
import type { Look } from "../desk/store";
import { EMPTY, styleOf } from "./style";

const TILE = 256;
const SIDE = TILE + 2;

/**
 * A tile layer without cracks. The library cuts each tile at its very edge, so that a pixel whose centre lies on the
 * edge can fall to neither neighbour; here each may draw a ten-thousandth of itself into its gutter.
 */
export class SurfaceLayer extends TileLayer {
  override createRenderer() {
    const renderer = super.createRenderer();
    // protected there, for renderers that extend it; this one is made inside the library
    const open = renderer as unknown as { applyRenderExtentUniform(extent: number[], transform: unknown): void };
    const apply = open.applyRenderExtentUniform.bind(renderer);
    open.applyRenderExtentUniform = (extent, transform) => {
      const overlap = ((extent[2] ?? 0) - (extent[0] ?? 0)) * 1e-4;
      apply(buffer(extent, overlap), transform);
    };
    return renderer;
  }
}

/**
 * The frame's south-west corner. Everything on the map is placed from there: the GPU counts in 32-bit numbers, which at
 * a northing of five million metres are half a metre apart, and would open cracks between tiles.
 */
export function originOf(grid: Grid): [number, number] {
  return [grid.west, grid.north - grid.rows * grid.cell_height];
}

/** The frame's area on the map, from its own corner. */
export function extentOf(grid: Grid): [number, number, number, number] {
  return [0, 0, grid.cols * grid.cell_width, grid.rows * grid.cell_height];
}

/** How many times the frame's cells are doubled until one tile holds them all. */
export function topLevel(grid: Grid): number {
  return Math.max(0, Math.ceil(Math.log2(Math.max(grid.rows, grid.cols) / TILE)));
}

const projections = new Map<string, Projection>();

/** The frame's CRS as a plain plane from its corner: nothing is transformed here but for that shift. */
export function projectionOf(grid: Grid): Projection {
  const code = `frame:${grid.crs}:${originOf(grid).join()}:${extentOf(grid).join()}`;
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
      origin: [0, grid.rows * grid.cell_height],
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
  return new SurfaceLayer({ source, style: styleOf(look, quantity, coarse), cacheSize: 160 });
}
