/** Shapes of features as GeoJSON has them, looked at without the map library. */

export type Position = number[];
/** A place in the frame's CRS, and several: a line, or a ring whose first is not repeated. */
export type Place = [number, number];
export type Line = Place[];
export type Ring = Place[];

export interface Shape {
  type: string;
  coordinates: unknown;
}

export interface Drawn {
  /** Metres of a line, square metres of a polygon, on the ground. */
  length?: number;
  area?: number;
  type: "Feature";
  id: number;
  properties: Record<string, string | number | boolean | null>;
  geometry: Shape;
}

export interface Collection {
  type: "FeatureCollection";
  features: Drawn[];
}

/** Every line, ring and point of a shape, in the order they are written. */
export function linesOf({ type, coordinates: at }: Shape): Position[][] {
  switch (type) {
    case "Point":
      return [[at as Position]];
    case "MultiPoint":
      return (at as Position[]).map((one) => [one]);
    case "LineString":
      return [at as Position[]];
    case "MultiLineString":
    case "Polygon":
      return at as Position[][];
    case "MultiPolygon":
      return (at as Position[][][]).flat();
    default:
      return [];
  }
}

/** The first position of a shape. */
export function startOf(shape: Shape): [number, number] {
  const [x = 0, y = 0] = linesOf(shape)[0]?.[0] ?? [];
  return [x, y];
}

function distanceTo([px, py]: [number, number], a: Position, b: Position): number {
  const [ax = 0, ay = 0] = a;
  const [bx = 0, by = 0] = b;
  const [dx, dy] = [bx - ax, by - ay];
  const length = dx * dx + dy * dy;
  const share = length ? Math.min(Math.max(((px - ax) * dx + (py - ay) * dy) / length, 0), 1) : 0;
  return Math.hypot(ax + share * dx - px, ay + share * dy - py);
}

function inside([px, py]: [number, number], rings: Position[][]): boolean {
  let within = false;
  for (const ring of rings)
    for (let i = 1; i < ring.length; i += 1) {
      const [ax = 0, ay = 0] = ring[i - 1] ?? [];
      const [bx = 0, by = 0] = ring[i] ?? [];
      if (ay > py !== by > py && px < ax + ((py - ay) / (by - ay)) * (bx - ax)) within = !within;
    }
  return within;
}

/** The feature at a place: the nearest line, rim or point within `reach`, else the smallest area around it. */
export function featureAt(collection: Collection, at: [number, number], reach: number): number | null {
  let best = reach;
  let found: number | null = null;
  let around: { id: number; extent: number } | null = null;
  for (const { id, geometry } of collection.features) {
    const lines = linesOf(geometry);
    let nearest = Infinity;
    for (const line of lines) {
      if (line.length === 1) nearest = Math.min(nearest, distanceTo(at, line[0] ?? [], line[0] ?? []));
      for (let i = 1; i < line.length; i += 1)
        nearest = Math.min(nearest, distanceTo(at, line[i - 1] ?? [], line[i] ?? []));
    }
    if (nearest <= best) {
      best = nearest;
      found = id;
    }
    if (!geometry.type.includes("Polygon") || !inside(at, lines)) continue;
    const xs = lines.flat().map(([x = 0]) => x);
    const extent = xs.reduce((a, b) => Math.max(a, b), -Infinity) - xs.reduce((a, b) => Math.min(a, b), Infinity);
    if (!around || extent < around.extent) around = { id, extent };
  }
  return found ?? around?.id ?? null;
}

/** The vertex of a shape nearest to a place, within `reach`. */
export function vertexAt(shape: Shape, [x, y]: [number, number], reach: number) {
  let best = reach;
  let found: { part: number; vertex: number } | null = null;
  linesOf(shape).forEach((line, part) => {
    line.forEach(([vx = 0, vy = 0], vertex) => {
      const distance = Math.hypot(vx - x, vy - y);
      if (distance > best) return;
      best = distance;
      found = { part, vertex };
    });
  });
  return found as { part: number; vertex: number } | null;
}

export type Reshaped =
  | { kind: "move_vertex" | "add_vertex"; part: number; vertex: number; x: number; y: number }
  | { kind: "remove_vertex"; part: number; vertex: number };

/** What was done to a shape's vertices, where one was moved, added or taken away; null where nothing was. */
export function reshaped(before: Shape, after: Shape): Reshaped | null {
  const [old, made] = [linesOf(before), linesOf(after)];
  for (const [part, line] of made.entries()) {
    const was = old[part] ?? [];
    const same = (i: number) => was[i]?.[0] === line[i]?.[0] && was[i]?.[1] === line[i]?.[1];
    let i = 0;
    while (i < Math.max(line.length, was.length) && same(i)) i += 1;
    if (i === Math.max(line.length, was.length)) continue;
    if (line.length < was.length) return { kind: "remove_vertex", part, vertex: i };
    const [x = 0, y = 0] = line[i] ?? [];
    if (line.length > was.length) return { kind: "add_vertex", part, vertex: i - 1, x, y };
    return { kind: "move_vertex", part, vertex: i, x, y };
  }
  return null;
}

const MOST = 4_000; // corners of a profile's line, which the desk remembers

/** The longest line or ring of a shape as x and y to centimetres, to draw a profile along; null for points. Of very long ones
 * corners are left out evenly. */
export function lineOf(shape: Shape): [number, number][] | null {
  const longest = linesOf(shape).reduce((best, line) => (line.length > best.length ? line : best), [] as Position[]);
  if (longest.length < 2) return null;
  const step = Math.ceil(longest.length / MOST);
  const rounded = (value: number) => Math.round(value * 100) / 100;
  return longest
    .filter((_, i) => i % step === 0 || i === longest.length - 1)
    .map(([x = 0, y = 0]) => [rounded(x), rounded(y)]);
}
