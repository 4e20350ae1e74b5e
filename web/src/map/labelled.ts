const MOST = 12; // heights with labels in one view
const COARSE = 4; // metres a pixel from which fewer are labelled

/** A round number that is not smaller: 1, 2, 5, 10 and so on. */
function round(value: number): number {
  const power = 10 ** Math.floor(Math.log10(Math.max(value, 1)));
  return [1, 2, 5, 10].map((digit) => digit * power).find((one) => one >= value) ?? value;
}

/**
 * Which heights of index lines bear labels: all where they are few, else every second, fifth, tenth, so that labels do not fill the
 * map; and fewer the more ground a pixel shows.
 */
export function labelledHeights(heights: (number | null)[], resolution: number): Set<number> {
  const sorted = [...new Set(heights.filter((one) => one !== null))].sort((one, other) => one - other);
  const every = Math.max(round(sorted.length / MOST), round(resolution / COARSE));
  // counted from zero, so that the same heights bear labels wherever the map is moved
  const step = sorted.length > 1 ? Math.min(...sorted.slice(1).map((one, i) => one - (sorted[i] ?? 0))) : 1;
  return new Set(sorted.filter((one) => every === 1 || Math.round(one / step) % every === 0));
}

/** Whether a height bears a label at a resolution, with the answer for all of them kept while it stays. */
export function labelsAt(heights: (number | null)[]): (height: number | null, resolution: number) => boolean {
  let at = Number.NaN;
  let held = new Set<number>();
  return (height, resolution) => {
    if (resolution !== at) held = labelledHeights(heights, resolution);
    at = resolution;
    return height !== null && held.has(height);
  };
}
