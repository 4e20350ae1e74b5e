/**
 * A model as the service sends it: offsets and scales, four polynomials of twenty terms in RPC00B's order, and an adjustment of
 * columns and rows; see the core's `Sensor.packed`.
 */
export type Model = readonly number[];

const STEPS = 12;

function cubic(p: Model, at: number, x: number, y: number, z: number): number {
  const t = [
    1,
    x,
    y,
    z,
    x * y,
    x * z,
    y * z,
    x * x,
    y * y,
    z * z,
    x * y * z,
    x * x * x,
    x * y * y,
    x * z * z,
    x * x * y,
    y * y * y,
    y * z * z,
    x * x * z,
    y * y * z,
    z * z * z,
  ];
  let total = 0;
  for (let i = 0; i < 20; i++) total += (p[at + i] ?? 0) * (t[i] ?? 0);
  return total;
}

/** Column and row at which a place is seen: longitude, latitude, height above the ellipsoid. */
export function seen(p: Model, lon: number, lat: number, height: number): [number, number] {
  const n = (i: number) => p[i] ?? 0;
  const [x, y, z] = [(lon - n(3)) / n(8), (lat - n(2)) / n(7), (height - n(4)) / n(9)];
  const r = cubic(p, 10, x, y, z) / cubic(p, 30, x, y, z);
  const c = cubic(p, 50, x, y, z) / cubic(p, 70, x, y, z);
  return [c * n(6) + n(1) + n(90) + n(91) * c + n(92) * r, r * n(5) + n(0) + n(93) + n(94) * c + n(95) * r];
}

/** Longitude and latitude at which a cell sees the ground of a height; null where it sees none. */
export function reached(p: Model, col: number, row: number, height: number): [number, number] | null {
  let [lon, lat] = [p[3] ?? 0, p[2] ?? 0];
  const [dx, dy] = [1e-6 * (p[8] ?? 1), 1e-6 * (p[7] ?? 1)];
  for (let turn = 0; turn < STEPS; turn++) {
    const [c, r] = seen(p, lon, lat, height);
    const [cx, rx] = seen(p, lon + dx, lat, height);
    const [cy, ry] = seen(p, lon, lat + dy, height);
    const [a, b, d, e] = [(cx - c) / dx, (cy - c) / dy, (rx - r) / dx, (ry - r) / dy];
    const away = a * e - b * d;
    if (!Number.isFinite(away) || away === 0) return null;
    lon += (e * (col - c) - b * (row - r)) / away;
    lat += (a * (row - r) - d * (col - c)) / away;
    if (Math.abs(col - c) + Math.abs(row - r) < 1e-5) return [lon, lat];
  }
  return null;
}

/** The cell of the other image that shows the ground which a cell of this one sees at a height. */
export function across(from: Model, to: Model, col: number, row: number, height: number): [number, number] | null {
  const place = reached(from, col, row, height);
  return place && seen(to, place[0], place[1], height);
}
