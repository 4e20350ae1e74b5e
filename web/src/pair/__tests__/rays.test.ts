import { describe, expect, it } from "vitest";
import { across, type Model, reached, seen } from "../rays";

/** A camera whose cells are a metre wide; its rays lean by `lean` metres to the south for each metre of height. */
function camera(lean: number, shift = 0): Model {
  const half = 200;
  const polynomial = (terms: Record<number, number>) => Array.from({ length: 20 }, (_, i) => terms[i] ?? 0);
  return [
    half - 0.5,
    half - 0.5,
    -41.2,
    62.4,
    100,
    half,
    half,
    half / 111_195,
    half / 83_665,
    400,
    ...polynomial({ 2: -1, 3: (lean * 400) / half }),
    ...polynomial({ 0: 1, 1: 0.002 }),
    ...polynomial({ 1: 1, 8: 0.001 }),
    ...polynomial({ 0: 1, 2: 0.001 }),
    shift,
    0,
    0,
    0,
    0,
    0,
  ];
}

describe("rays of an image", () => {
  it("lead from a cell to the ground and back to it", () => {
    const model = camera(0.2, 3.5);
    for (const [col, row, height] of [
      [10, 20, 0],
      [333.3, 180.7, 250],
    ] as const) {
      const place = reached(model, col, row, height);
      const [c, r] = seen(model, ...(place as [number, number]), height);
      expect(c).toBeCloseTo(col, 4);
      expect(r).toBeCloseTo(row, 4);
    }
  });

  it("shift by an adjustment as the core's do", () => {
    const [col] = seen(camera(0.2), 62.4, -41.2, 100);
    const [shifted] = seen(camera(0.2, 3.5), 62.4, -41.2, 100);
    expect(shifted - col).toBeCloseTo(3.5, 9);
  });

  it("move in the other image by the difference of their leans for each metre of height", () => {
    const [left, right] = [camera(0.22), camera(-0.22)];
    const low = across(left, right, 200, 200, 100);
    const high = across(left, right, 200, 200, 150);
    expect((high?.[1] ?? 0) - (low?.[1] ?? 0)).toBeCloseTo(-0.44 * 50, 0);
  });

  it("lead nowhere where a denominator vanishes", () => {
    const model = camera(0.2).map((value, i) => (i >= 50 && i < 70 ? 0 : value));
    expect(reached(model, 10, 10, 0)).toBeNull();
  });
});
