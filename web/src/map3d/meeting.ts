/** A place in metres east, north and up. */
export type At = [number, number, number];
/** How high the ground is at a place; null where there is none. */
export type HeightAt = (x: number, y: number) => number | null;

const STEEP = 2; // rise over run that a step of a ray allows for
const DEEP = -2000; // metres below which there is no ground
const HALVES = 24; // times that the step in which ray and ground meet is halved

/** Where a ray meets the ground first; null where it does not within so many metres. `least`: of a step, in metres. */
export function meeting(heightAt: HeightAt, from: At, way: At, far: number, least: number): At | null {
  const length = Math.hypot(...way) || 1;
  const [dx, dy, dz] = way.map((one) => one / length) as At;
  const run = Math.hypot(dx, dy);
  const at = (t: number): At => [from[0] + t * dx, from[1] + t * dy, from[2] + t * dz];
  const above = (t: number): number | null => {
    const [x, y, z] = at(t);
    const ground = heightAt(x, y);
    return ground === null ? null : z - ground;
  };
  let last: number | null = null; // where the ray was over the ground
  for (let t = 0; t < far; ) {
    const gap = above(t);
    if (gap !== null && gap <= 0 && last !== null) {
      let [high, low] = [last, t];
      for (let n = 0; n < HALVES; n++) {
        const middle = (high + low) / 2;
        if ((above(middle) ?? 1) > 0) high = middle;
        else low = middle;
      }
      return at(low);
    }
    if (gap !== null && gap > 0) last = t;
    if (at(t)[2] < DEEP && dz < 0) return null;
    t += Math.max(gap === null || gap < 0 ? 0 : gap / (Math.abs(dz) + STEEP * run), least);
  }
  return null;
}
