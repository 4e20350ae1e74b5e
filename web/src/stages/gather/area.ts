import type { Grid } from "../../api/client";
import type { Ring } from "../../map/shapes";

/** The frame's area as a ring. */
export function ringOf(grid: Grid): Ring {
  const [west, north] = [grid.west, grid.north];
  const [east, south] = [west + grid.cols * grid.cell_width, north - grid.rows * grid.cell_height];
  return [
    [west, south],
    [east, south],
    [east, north],
    [west, north],
  ];
}

/** West, south, east, north of a ring. */
export function boxOf(ring: Ring): [number, number, number, number] {
  const xs = ring.map(([x]) => x);
  const ys = ring.map(([, y]) => y);
  return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
}

/** The area inside a ring. */
export function areaOf(ring: Ring): number {
  const twice = ring.reduce((sum, [x, y], i) => {
    const [nx, ny] = ring[(i + 1) % ring.length] ?? [0, 0];
    return sum + x * ny - nx * y;
  }, 0);
  return Math.abs(twice) / 2;
}

function inside([x, y]: [number, number], ring: Ring): boolean {
  let odd = false;
  ring.forEach(([ax, ay], i) => {
    const [bx, by] = ring[(i + 1) % ring.length] ?? [0, 0];
    if (ay > y !== by > y && x < ax + ((y - ay) / (by - ay)) * (bx - ax)) odd = !odd;
  });
  return odd;
}

function cross(a: [number, number], b: [number, number], c: [number, number], d: [number, number]): boolean {
  const side = (p: [number, number], q: [number, number], r: [number, number]) =>
    (q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]);
  return side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0;
}

/** Whether two rings share ground. */
export function holds(one: Ring, other: Ring): boolean {
  if (other.some((at) => inside(at, one)) || one.some((at) => inside(at, other))) return true;
  return one.some((a, i) =>
    other.some((c, j) => cross(a, one[(i + 1) % one.length] ?? a, c, other[(j + 1) % other.length] ?? c)),
  );
}
