import { buffer } from "ol/extent";
import TileLayer from "ol/layer/WebGLTile";
import type { FrameState } from "ol/Map";
import { Projection } from "ol/proj";
import DataTile from "ol/source/DataTile";
import TileGrid from "ol/tilegrid/TileGrid";
import { bytes, type Grid, type Quantity } from "../api/client";
import type { Light, Look } from "../desk/store";
import type { LoadPixels } from "./backdrops";
import { EMPTY, isLit, styleOf } from "./style";
import type { TilePath } from "./tilePath";

const TILE = 256;
const SIDE = TILE + 2;

const SLOW = 40; // milliseconds between two frames of a drag
const MOVING_SHARE = 0.35; // of the pixels along each side, which leaves room in a frame for everything else
const SLOW_FRAMES = 2; // so many such gaps tell a machine without a GPU from a hiccup

/** Notes the gaps between frames while the map moves, and says whether they are so long that fewer pixels must do. */
export class Pace {
  private last = 0;
  private slow = 0;

  /** Takes the machine for a slow one from the start. */
  expectSlow(): void {
    this.slow = SLOW_FRAMES;
  }

  /** The share of the screen's pixels to draw along each side, now. */
  share(moving: boolean, now: number): number {
    if (!moving) {
      this.last = 0;
      return 1;
    }
    const gap = this.last ? now - this.last : 0;
    this.last = now;
    if (gap > SLOW && gap < 1000) this.slow += 1;
    return this.slow >= SLOW_FRAMES ? MOVING_SHARE : 1;
  }
}

const pace = new Pace();

/** Whether pictures are computed by the processor instead of a GPU, as far as the browser says. */
function drawnBySoftware(): boolean {
  const gl = document.createElement("canvas").getContext("webgl");
  const info = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = info ? String(gl?.getParameter(info.UNMASKED_RENDERER_WEBGL)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
}

/**
 * A tile layer without cracks. The library cuts each tile at its very edge, so that a pixel whose centre lies on the
 * edge can fall to neither neighbour; here each may draw a ten-thousandth of itself into its gutter.
 */
export class SurfaceLayer extends TileLayer {
  /** Without a GPU a frame takes long: while the map moves it is drawn with fewer pixels there, and whole at rest. */
  override render(frame: FrameState | null, target: HTMLElement): HTMLElement {
    if (!frame) return super.render(frame, target);
    const moving = (frame.viewHints[0] ?? 0) > 0 || (frame.viewHints[1] ?? 0) > 0;
    const ratio = frame.pixelRatio;
    frame.pixelRatio = ratio * pace.share(moving, frame.time);
    try {
      return super.render(frame, target);
    } finally {
      frame.pixelRatio = ratio;
    }
  }

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

/** The grid of which so many times as many cells, along each side, fill the same area. */
const finerGrid = (grid: Grid, times: number): Grid => ({
  ...grid,
  cell_width: grid.cell_width / times,
  cell_height: grid.cell_height / times,
  rows: grid.rows * times,
  cols: grid.cols * times,
});

/** Metres a cell at the level that is drawn at a resolution. */
export function drawnCell(grid: Grid, resolution: number): number {
  const level = Math.round(Math.log2(Math.max(resolution / grid.cell_width, 1)));
  return grid.cell_width * 2 ** Math.min(level, topLevel(grid));
}

/** Relief keeps its strength in wide views, as the core's small pictures do. */
export function riseAt(cell: number): number {
  return Math.min(Math.max(cell / 8, 1), 4);
}

let asked: boolean | undefined;

/** The tiles of the frame's grid. */
function tilesOf(grid: Grid) {
  const top = topLevel(grid);
  return {
    projection: projectionOf(grid),
    tileGrid: new TileGrid({
      extent: extentOf(grid),
      origin: [0, grid.rows * grid.cell_height],
      resolutions: Array.from({ length: top + 1 }, (_, z) => grid.cell_width * 2 ** (top - z)),
      tileSize: TILE,
    }),
    gutter: 1,
    transition: 0,
    wrapX: false,
  };
}

/** A picture on the map, in colours of its own. */
export function backdropLayer(load: LoadPixels, grid: Grid): SurfaceLayer {
  asked ??= drawnBySoftware();
  if (asked) pace.expectSlow();
  const top = topLevel(grid);
  const source = new DataTile({
    ...tilesOf(grid),
    bandCount: 4,
    interpolate: true,
    loader: async (z: number, x: number, y: number) =>
      (await load(top - z, x, y)) ?? new Uint8ClampedArray(SIDE * SIDE * 4),
  });
  return new SurfaceLayer({ source, cacheSize: 120 });
}

/** A surface on the map: float cells from the service, coloured and lit on the GPU. */
export function surfaceLayer(
  path: TilePath,
  key: string,
  frame: Grid,
  look: Look,
  quantity: Quantity,
  coarse: boolean,
  light: Light,
  { rough = false, finer = 1 } = {},
): SurfaceLayer {
  asked ??= drawnBySoftware();
  if (asked) pace.expectSlow();
  const grid = finerGrid(frame, finer);
  const top = topLevel(grid);
  const shade = isLit(quantity) ? light.shade : "none";
  const bands = (coarse ? 3 : 1) + (shade === "none" ? 0 : 1);
  const source = new DataTile({
    ...tilesOf(grid),
    bandCount: bands,
    interpolate: false,
    loader: async (z: number, x: number, y: number) => {
      const body = await bytes(path(key, top - z, x, y, { rough, finer, shade }));
      const cells = body ? new Float32Array(body) : new Float32Array(SIDE * SIDE * bands).fill(EMPTY);
      for (let i = 0; i < cells.length; i++) if (Number.isNaN(cells[i])) cells[i] = EMPTY;
      return cells;
    },
  });
  return new SurfaceLayer({ source, style: styleOf(look, quantity, coarse, light), cacheSize: 160 });
}
