import * as three from "three";
import { bytes } from "../api/client";
import type { Light, Look, Shade } from "../desk/store";
import { type LoadPixels, laidOver } from "../map/backdrops";
import { colourAt, stopsOf } from "../map/ramps";
import { EMPTY, lightOf, TONE } from "../map/style";
import type { TilePath } from "../map/tilePath";
import { chosenTiles, drawnTiles, type Ground, nameOf, partOf, placeOf, sourceOf, TILE, type Tile } from "./tiles3d";

const SIDE = TILE + 2;
const MESH = 64; // squares along a side of a tile's mesh
const KEPT = 160; // tiles
const AT_ONCE = 6;

/** The corners of a mesh by column and row: row by row, then those of the rim again, where the skirt hangs. */
const CORNERS: [number, number][] = [];
for (let r = 0; r <= MESH; r++) for (let c = 0; c <= MESH; c++) CORNERS.push([c, r]);
const HUNG = CORNERS.length;
for (let c = 0; c < MESH; c++) CORNERS.push([c, 0]);
for (let r = 0; r < MESH; r++) CORNERS.push([MESH, r]);
for (let c = MESH; c > 0; c--) CORNERS.push([c, MESH]);
for (let r = MESH; r > 0; r--) CORNERS.push([0, r]);

/** A square of 1 x 1 with a skirt that hangs down around it, so that neighbours of other sizes leave no crack. */
function sheet(): three.BufferGeometry {
  const place = (c: number, r: number) => r * (MESH + 1) + c;
  const faces: number[] = [];
  const quad = (a: number, b: number, c: number, d: number) => faces.push(a, c, b, b, c, d);
  for (let r = 0; r < MESH; r++)
    for (let c = 0; c < MESH; c++) quad(place(c, r), place(c + 1, r), place(c, r + 1), place(c + 1, r + 1));
  const rim = CORNERS.slice(HUNG);
  rim.forEach(([c, r], n) => {
    const after = (n + 1) % rim.length;
    const [nextC, nextR] = rim[after] as [number, number];
    quad(place(c, r), place(nextC, nextR), HUNG + n, HUNG + after);
  });
  const made = new three.BufferGeometry();
  const at = CORNERS.flatMap(([c, r], n) => [c / MESH, r / MESH, n < HUNG ? 0 : 1]);
  made.setAttribute("position", new three.Float32BufferAttribute(at, 3));
  made.setIndex(faces);
  return made;
}

const VERTEX = `
precision highp float;
in float height;
uniform vec3 place; // west, north, width
uniform vec3 part; // first column and row of its cells, and how many
uniform vec2 middle;
uniform float rise;
out vec2 at;
out float east;
void main() {
  at = part.xy + position.xy * part.z;
  east = place.x + position.x * place.z;
  float north = place.y - position.y * place.z;
  vec3 world = vec3(east - middle.x, height * rise - position.z * place.z * 0.04, middle.y - north);
  gl_Position = projectionMatrix * viewMatrix * vec4(world, 1.0);
}`;

const FRAGMENT = `
precision highp float;
uniform sampler2D cells;
uniform sampler2D ramp;
uniform vec3 place;
uniform vec3 part;
uniform vec2 range;
uniform vec2 between; // shares of the frame's width that are shown
uniform float width;
uniform vec4 light; // east, north, level, up
uniform vec2 strength; // of relief, of heights for it
uniform bool several;
uniform bool lit;
uniform bool coarse;
uniform float depth; // of the tone, 0 where the cells bring none
uniform float opacity;
uniform vec3 tint;
uniform sampler2D picture; // laid over it
uniform bool draped;
in vec2 at;
in float east;
out vec4 colour;
float near(ivec2 i, float h) {
  float found = texelFetch(cells, i, 0).r;
  return found > ${EMPTY / 2}.0 ? found : h;
}
// Weights of a quadratic B-spline for the cell before, the cell and the one after, t from the cell's middle; and their slopes.
vec3 weights(float t) {
  return vec3(0.5 * (0.5 - t) * (0.5 - t), 0.75 - t * t, 0.5 * (0.5 + t) * (0.5 + t));
}
vec3 slopes(float t) {
  return vec3(t - 0.5, -2.0 * t, t + 0.5);
}
void main() {
  float seam = 0.1 * place.z / part.z; // a tenth of a cell over the split, so that no sky shows there
  if (east < between.x * width - seam || east > between.y * width + seam) discard;
  ivec2 i = clamp(ivec2(floor(at)), ivec2(0), ivec2(${TILE - 1})) + 1;
  vec4 cell = texelFetch(cells, i, 0);
  float h = cell.r;
  if (h < ${EMPTY / 2}.0) discard;
  float tone = coarse ? cell.a : cell.g;
  vec2 g = cell.gb;
  if (lit && !coarse) {
    // a smooth surface through the cells, so that no cell shows as a facet from near by
    vec2 t = fract(at) - 0.5;
    vec3 wx = weights(t.x), wy = weights(t.y), dx = slopes(t.x), dy = slopes(t.y);
    vec3 up = vec3(near(i + ivec2(-1, -1), h), near(i + ivec2(0, -1), h), near(i + ivec2(1, -1), h));
    vec3 mid = vec3(near(i + ivec2(-1, 0), h), h, near(i + ivec2(1, 0), h));
    vec3 down = vec3(near(i + ivec2(-1, 1), h), near(i + ivec2(0, 1), h), near(i + ivec2(1, 1), h));
    vec3 across = vec3(dot(wx, up), dot(wx, mid), dot(wx, down));
    h = dot(wy, across);
    g = vec2(dot(wy, vec3(dot(dx, up), dot(dx, mid), dot(dx, down))), -dot(dy, across)) * part.z / place.z;
  }
  float share = clamp((h - range.x) / max(range.y - range.x, 0.000001), 0.0, 1.0);
  vec3 painted = texture(ramp, vec2((share * 255.0 + 0.5) / 256.0, 0.5)).rgb;
  if (lit) {
    g *= strength.y;
    float steep = dot(g, g);
    float bright;
    if (several) {
      float p = dot(g, light.xy), q = g.x * light.y - g.y * light.x;
      float weight = p * p / (light.z * light.z) / (steep + 0.000001);
      bright = light.w - 0.5 * (${1 - Math.SQRT1_2} * p + weight * (${Math.SQRT2 - 1} * p - q));
    } else bright = light.w - dot(g, light.xy);
    bright = clamp(bright / sqrt(1.0 + steep), 0.0, 1.0);
    painted *= max(1.0 + 0.78 * strength.x * (bright - light.w), 0.0);
    painted *= max(1.0 + depth * tone, 0.0);
  }
  if (draped) {
    vec4 over = texture(picture, (at + 1.0) / ${SIDE}.0);
    painted = mix(painted, over.rgb, over.a);
  }
  colour = vec4(mix(painted, tint, opacity < 1.0 ? 0.45 : 0.0), opacity);
}`;

/**
 * How high a mesh stands at its corners: between the four cells around each. Beside a hole it goes on as high as the nearest cells
 * that its squares reach, for they are drawn where those are filled.
 */
export function heightsOf(cells: ArrayLike<number>, step: number, [col, row, width]: [number, number, number]) {
  const size = width / MESH;
  const reach = Math.ceil(size) + 1;
  const limit = (at: number) => Math.min(Math.max(at, 0), SIDE - 1);
  const cell = (r: number, c: number) => cells[step * (limit(r) * SIDE + limit(c))] as number;
  const heights = new Float32Array(CORNERS.length);
  CORNERS.forEach(([x, y], n) => {
    const [c, r] = [col + x * size + 0.5, row + y * size + 0.5];
    const [left, top] = [Math.floor(c), Math.floor(r)];
    let [total, count] = [0, 0];
    const take = (down: number, right: number, weight: number) => {
      const height = cell(top + down, left + right);
      if (height <= EMPTY / 2) return;
      total += weight * height;
      count += weight;
    };
    const [w, v] = [c - left, r - top];
    take(0, 0, (1 - w) * (1 - v));
    take(0, 1, w * (1 - v));
    take(1, 0, (1 - w) * v);
    take(1, 1, w * v);
    for (let ring = 1; ring <= reach && count === 0; ring++)
      for (let i = -ring; i <= ring; i++) {
        take(-ring, i, 1);
        take(ring, i, 1);
        take(i, -ring, 1);
        take(i, ring, 1);
      }
    heights[n] = count ? total / count : 0; // nothing is drawn there
  });
  return heights;
}

/** How high a tile is at a column and row, counted in cells from its north-west: between the middles of the four cells around,
 * of which empty ones do not count; null where the cell itself is empty. */
export function heightIn(cells: ArrayLike<number>, step: number, col: number, row: number): number | null {
  const cell = (r: number, c: number) => cells[step * (r * SIDE + c)] as number;
  if (cell(Math.floor(row) + 1, Math.floor(col) + 1) <= EMPTY / 2) return null;
  const [c, r] = [col + 0.5, row + 0.5];
  const [left, top] = [Math.floor(c), Math.floor(r)];
  let [total, weights] = [0, 0];
  for (const [down, right] of [
    [0, 0],
    [0, 1],
    [1, 0],
    [1, 1],
  ] as const) {
    const height = cell(top + down, left + right);
    const weight = (right ? c - left : left + 1 - c) * (down ? r - top : top + 1 - r);
    if (height <= EMPTY / 2) continue;
    total += weight * height;
    weights += weight;
  }
  return weights ? total / weights : null;
}

/** What is drawn of a surface, and how. */
export interface Skin {
  key: string;
  coarse: boolean;
  lit: boolean;
  look: Look;
  light: Light;
  rise: number;
  between: [number, number];
  /** 1, or less for a skin that lets the other through. */
  opacity: number;
  /** Pictures laid over it, the last on top. */
  drapes: Drape[];
  /** Whether what it takes the place of stays in sight until all of it is there. */
  steady: boolean;
}

/** A picture to lay over a surface. name: with another its pixels are others. */
export interface Drape {
  name: string;
  opacity: number;
  load: LoadPixels;
}

const draped = ({ drapes }: Skin): string => JSON.stringify(drapes.map(({ name, opacity }) => [name, opacity]));

const shadeOf = ({ lit, light }: Skin): Shade => (lit ? light.shade : "none");

type Drawn = three.Mesh<three.BufferGeometry, three.ShaderMaterial>;

interface Held {
  cells: three.DataTexture;
  picture: three.DataTexture | null;
  used: number;
}

/** One surface in the scene: tiles of the map as meshes, coloured and lit by the same rules. */
export class SurfaceSkin {
  readonly group = new three.Group();
  /** Cells of the map's tiles, and meshes of what is drawn of them. */
  private held = new Map<string, Held>();
  private meshes = new Map<string, Drawn>();
  private waiting = new Map<string, AbortController>();
  private empty = new Set<string>();
  private wanted: Tile[] = [];
  private clock = 0;
  private failed = "";
  private between: [number, number] = [0, 1];
  private readonly sheet = sheet();
  private readonly ramp = new three.DataTexture(new Uint8Array(256 * 4), 256, 1);
  private readonly shared: Record<string, three.IUniform>;

  constructor(
    private readonly path: TilePath,
    private readonly ground: Ground,
    private readonly skin: Skin,
    private readonly changed: () => void,
  ) {
    const width = ground.cols * ground.cell;
    this.ramp.magFilter = three.LinearFilter;
    this.shared = {
      ramp: { value: this.ramp },
      middle: { value: new three.Vector2(width / 2, (ground.rows * ground.cell) / 2) },
      width: { value: width },
      rise: { value: 1 },
      range: { value: new three.Vector2() },
      between: { value: new three.Vector2(0, 1) },
      light: { value: new three.Vector4() },
      strength: { value: new three.Vector2(1, 1) },
      several: { value: false },
      lit: { value: true },
      coarse: { value: skin.coarse },
      depth: { value: 0 },
      opacity: { value: 1 },
      tint: { value: new three.Vector3(60 / 255, 78 / 255, 158 / 255) }, // indigo, B's
    };
    this.dress(skin);
  }

  /** Whether this is the surface that is asked for, with the shade that comes with its cells. */
  shows(asked: Skin): boolean {
    return this.skin.key === asked.key && this.shade === shadeOf(asked) && draped(this.skin) === draped(asked);
  }

  /** Whether it is drawn at a share of the frame's width. */
  covers(share: number): boolean {
    const [from, to] = this.between;
    return share >= from && share <= to;
  }

  private get shade(): Shade {
    return shadeOf(this.skin);
  }

  /** Numbers a cell on the GPU, where there may not be three. */
  private get step(): 1 | 2 | 4 {
    return this.skin.coarse ? 4 : this.shade === "none" ? 1 : 2;
  }

  /** Why tiles could not be read, if so. */
  get trouble(): string {
    return this.failed;
  }

  /** Whether everything that is wanted is there. */
  get isWhole(): boolean {
    return this.wanted.length > 0 && this.wanted.every(this.isThere);
  }

  private isThere = (tile: Tile): boolean => {
    const name = nameOf(sourceOf(tile));
    return this.held.has(name) || this.empty.has(name);
  };

  /** Another look, light, height or share of the width: only numbers for the GPU change. */
  dress({ look, light, rise, between, opacity, lit }: Skin): void {
    const set = (name: string, value: unknown) => {
      (this.shared[name] as three.IUniform).value = value;
    };
    const stops = stopsOf(look);
    const data = this.ramp.image.data as unknown as Uint8Array;
    for (let i = 0; i < 256; i++) {
      const colour = colourAt(stops, i / 255);
      for (let band = 0; band < 3; band++)
        data[4 * i + band] = Number.parseInt(colour.slice(1 + 2 * band, 3 + 2 * band), 16);
      data[4 * i + 3] = 255;
    }
    this.ramp.needsUpdate = true;
    const { east = 0, north = 0, level = 1, up = 1 } = lightOf(light);
    set("light", new three.Vector4(east, north, level, up));
    set("depth", this.shade === "none" ? 0 : TONE * light.depth);
    set("strength", new three.Vector2(light.strength, light.rise * rise));
    set("several", light.several);
    set("range", new three.Vector2(look.range[0], Math.max(look.range[1], look.range[0] + 1e-6)));
    this.between = between;
    set("between", new three.Vector2(...between));
    set("rise", rise);
    set("opacity", opacity);
    set("lit", lit);
    for (const mesh of this.meshes.values()) {
      mesh.material.transparent = opacity < 1;
      mesh.renderOrder = opacity < 1 ? 1 : 0;
    }
    this.group.userData.opacity = opacity;
    this.changed();
  }

  /** Show what an eye sees; what is missing is asked for, the nearest first. */
  look(eye: [number, number, number], height: number): void {
    this.clock += 1;
    this.wanted = chosenTiles(this.ground, eye, height);
    // what lies over all of it comes first, so that something is there at once
    const sources = new Map(
      [{ level: this.ground.top, col: 0, row: 0 }, ...this.wanted.map(sourceOf)].map((tile) => [nameOf(tile), tile]),
    );
    for (const [name, waits] of this.waiting)
      if (!sources.has(name)) {
        waits.abort();
        this.waiting.delete(name);
      }
    for (const [name, tile] of sources) {
      if (this.waiting.size >= AT_ONCE) break;
      if (!this.isThere(tile) && !this.waiting.has(name)) void this.load(tile, name);
    }
    const drawn = new Map(
      drawnTiles(this.wanted, this.isThere, this.ground.top).map((tile) => [nameOf(tile), tile] as const),
    );
    for (const [name, mesh] of this.meshes)
      if (!drawn.has(name)) {
        this.group.remove(mesh);
        mesh.geometry.dispose();
        mesh.material.dispose();
        this.meshes.delete(name);
      }
    for (const [name, tile] of drawn) {
      const source = this.held.get(nameOf(sourceOf(tile)));
      if (!source) continue; // all of it is empty
      source.used = this.clock;
      if (!this.meshes.has(name)) this.meshes.set(name, this.mesh(tile, source));
    }
    if (this.held.size > KEPT) {
      const oldest = [...this.held].filter(([, one]) => one.used < this.clock).sort(([, a], [, b]) => a.used - b.used);
      for (const [name, { cells, picture }] of oldest.slice(0, this.held.size - KEPT)) {
        cells.dispose();
        picture?.dispose();
        this.held.delete(name);
      }
    }
  }

  private async load(tile: Tile, name: string): Promise<void> {
    const waits = new AbortController();
    this.waiting.set(name, waits);
    try {
      const body = await bytes(
        this.path(this.skin.key, tile.level, tile.col, tile.row, { shade: this.shade }),
        waits.signal,
      );
      const picture = body && (await this.picture(tile, waits.signal));
      if (body) this.held.set(name, { cells: this.texture(new Float32Array(body)), picture, used: this.clock });
      else this.empty.add(name);
      this.failed = "";
    } catch (error) {
      if (waits.signal.aborted) return;
      this.failed = error instanceof Error ? error.message : String(error);
      this.empty.add(name); // asked for once: a tile that fails fails again
    } finally {
      this.waiting.delete(name);
    }
    this.changed();
  }

  /** What lies over a tile, as one picture. */
  private async picture({ level, col, row }: Tile, signal: AbortSignal): Promise<three.DataTexture | null> {
    const parts = await Promise.all(
      this.skin.drapes.map(async ({ load, opacity }) => ({ pixels: await load(level, col, row, signal), opacity })),
    );
    const pixels = laidOver(parts);
    if (!pixels) return null;
    const texture = new three.DataTexture(pixels, SIDE, SIDE);
    texture.magFilter = texture.minFilter = three.LinearFilter;
    texture.needsUpdate = true;
    return texture;
  }

  private texture(read: Float32Array): three.DataTexture {
    const toned = this.shade !== "none";
    const bands = (this.skin.coarse ? 3 : 1) + (toned ? 1 : 0);
    const step = this.step;
    const cells = new Float32Array(SIDE * SIDE * step);
    for (let i = 0; i < SIDE * SIDE; i++)
      for (let band = 0; band < bands; band++) {
        const value = read[bands * i + band] as number;
        cells[step * i + band] = Number.isNaN(value) ? (band ? 0 : EMPTY) : value;
      }
    const texture = new three.DataTexture(
      cells,
      SIDE,
      SIDE,
      this.skin.coarse ? three.RGBAFormat : toned ? three.RGFormat : three.RedFormat,
      three.FloatType,
    );
    texture.needsUpdate = true;
    return texture;
  }

  private mesh(tile: Tile, { cells, picture }: Held): Drawn {
    const material = new three.ShaderMaterial({
      glslVersion: three.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      uniforms: {
        ...this.shared,
        cells: { value: cells },
        picture: { value: picture },
        draped: { value: picture !== null },
        place: { value: new three.Vector3(...placeOf(this.ground, tile)) },
        part: { value: new three.Vector3(...partOf(tile)) },
      },
      side: three.DoubleSide,
      transparent: (this.group.userData.opacity ?? 1) < 1,
    });
    const geometry = new three.BufferGeometry();
    geometry.setIndex(this.sheet.getIndex());
    geometry.setAttribute("position", this.sheet.getAttribute("position"));
    const heights = heightsOf(cells.image.data as unknown as Float32Array, this.step, partOf(tile));
    geometry.setAttribute("height", new three.BufferAttribute(heights, 1));
    const mesh = new three.Mesh(geometry, material);
    mesh.frustumCulled = false; // heights are known on the GPU only
    mesh.renderOrder = material.transparent ? 1 : 0;
    this.group.add(mesh);
    return mesh;
  }

  /** How high it is at a place, in metres from the frame's south-west, by the finest cells that are there; null where it is
   * empty, or not yet loaded. */
  heightAt(x: number, y: number): number | null {
    const { rows, cell, top } = this.ground;
    const [col, row] = [x / cell, rows - y / cell];
    if (col < 0 || row < 0 || col >= this.ground.cols || row >= rows) return null;
    for (let level = 0; level <= top; level++) {
      const [c, r] = [col / 2 ** level, row / 2 ** level];
      const tile = { level, col: Math.floor(c / TILE), row: Math.floor(r / TILE) };
      const name = nameOf(tile);
      if (this.empty.has(name)) return null;
      const held = this.held.get(name);
      if (held)
        return heightIn(
          held.cells.image.data as unknown as Float32Array,
          this.step,
          c - tile.col * TILE,
          r - tile.row * TILE,
        );
    }
    return null;
  }

  /** Give back what the GPU holds. */
  dispose(): void {
    for (const waits of this.waiting.values()) waits.abort();
    this.waiting.clear();
    for (const mesh of this.meshes.values()) {
      mesh.geometry.dispose();
      mesh.material.dispose();
    }
    for (const { cells } of this.held.values()) cells.dispose();
    this.sheet.dispose();
    this.ramp.dispose();
  }
}
