import type { Line, Place, Ring } from "../map/shapes";

/** Square metres of a ring; here and below places are in metres. */
export function areaOf(ring: Ring): number {
  let sum = 0;
  ring.forEach(([x, y], i) => {
    const [nx, ny] = ring[(i + 1) % ring.length] as Place;
    sum += x * ny - nx * y;
  });
  return Math.abs(sum) / 2;
}

/** Length of a line. */
export const lengthOf = (line: Line): number =>
  line.slice(1).reduce((sum, [x, y], i) => sum + Math.hypot(x - (line[i] as Place)[0], y - (line[i] as Place)[1]), 0);

/** The smallest rectangle around places: its middle, the direction of its longer side, and its length and width. */
export function boxAround(places: Line): { middle: Place; along: Place; length: number; width: number } {
  let best = { middle: places[0] ?? ([0, 0] as Place), along: [1, 0] as Place, length: 0, width: Infinity };
  let least = Infinity;
  places.forEach(([x, y], i) => {
    const [nx, ny] = places[(i + 1) % places.length] as Place;
    const side = Math.hypot(nx - x, ny - y);
    if (!side) return;
    const [a, b] = [(nx - x) / side, (ny - y) / side];
    // from the first place, so that large coordinates keep their digits
    const [ox, oy] = places[0] as Place;
    const u = places.map(([px, py]) => (px - ox) * a + (py - oy) * b);
    const v = places.map(([px, py]) => (py - oy) * a - (px - ox) * b);
    const [lu, hu, lv, hv] = [Math.min(...u), Math.max(...u), Math.min(...v), Math.max(...v)];
    const area = (hu - lu) * (hv - lv);
    if (area >= least) return;
    least = area;
    const [mu, mv] = [(lu + hu) / 2, (lv + hv) / 2];
    const middle: Place = [ox + mu * a - mv * b, oy + mu * b + mv * a];
    best =
      hu - lu >= hv - lv
        ? { middle, along: [a, b], length: hu - lu, width: hv - lv }
        : { middle, along: [-b, a], length: hv - lv, width: hu - lu };
  });
  return Number.isFinite(best.width) ? best : { ...best, width: 0 };
}

/** A line across the middle of an outline, or along it, reaching a little beyond. */
export function profileLine(places: Line, closed: boolean, along: boolean, least: number): Line {
  if (!closed) {
    const [from, to] = [places[0] as Place, places[places.length - 1] as Place];
    if (along) return places;
    const at = Math.floor((places.length - 1) / 2);
    const [a, b] = [places[at] as Place, places[at + 1] as Place];
    const side = Math.hypot(b[0] - a[0], b[1] - a[1]) || Math.hypot(to[0] - from[0], to[1] - from[1]) || 1;
    const [x, y] = [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
    const [dx, dy] = [(-(b[1] - a[1]) / side) * least, ((b[0] - a[0]) / side) * least];
    return [
      [x - dx, y - dy],
      [x + dx, y + dy],
    ];
  }
  const { middle, along: way, length, width } = boxAround(places);
  const half = along ? length * 0.65 : Math.max(width * 1.6, least);
  const [a, b] = along ? way : [-way[1], way[0]];
  return [
    [middle[0] - a * half, middle[1] - b * half],
    [middle[0] + a * half, middle[1] + b * half],
  ];
}

/** The same places moved so that their middle is somewhere else. */
export function movedTo(places: Line, to: Place): Line {
  const xs = places.map(([x]) => x);
  const ys = places.map(([, y]) => y);
  const mid = (all: number[]) => (Math.min(...all) + Math.max(...all)) / 2;
  const [dx, dy] = [to[0] - mid(xs), to[1] - mid(ys)];
  return places.map(([x, y]) => [x + dx, y + dy]);
}

/** The outline between two banks, however each was drawn. */
export function between(left: Line, right: Line): Line {
  const gap = (one: Place | undefined, other: Place | undefined) =>
    one && other ? Math.hypot(one[0] - other[0], one[1] - other[1]) : 0;
  const alike = gap(left[0], right[0]) + gap(left.at(-1), right.at(-1));
  const against = gap(left[0], right.at(-1)) + gap(left.at(-1), right[0]);
  return [...left, ...(alike <= against ? [...right].reverse() : right)];
}

/** The corners of the smallest rectangle around places. */
export function rectangleAround(places: Line): Line {
  const { middle, along, length, width } = boxAround(places);
  const corner = (u: number, v: number): Place => [
    middle[0] + (u * length * along[0] - v * width * along[1]) / 2,
    middle[1] + (u * length * along[1] + v * width * along[0]) / 2,
  ];
  return [corner(-1, -1), corner(1, -1), corner(1, 1), corner(-1, 1)];
}
