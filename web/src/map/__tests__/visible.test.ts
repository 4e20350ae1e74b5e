import { describe, expect, it } from "vitest";
import { cloud, lines, points, surface } from "../../testing/render";
import { labelledHeights, labelsAt } from "../labelled";
import { bearsHeights, isVisible } from "../visible";

const recipe = { operation: "contours", params: {}, inputs: {}, input_ids: {} } as never;

describe("what is on a person's map", () => {
  it("is what was given to the project and what that person made, but for clouds", () => {
    const contours = { ...lines(3, "Contours", []), recipe, maker_id: 7 };
    expect(isVisible(lines(1, "Rivers", []), {}, 9)).toBe(true);
    expect(isVisible(points(2, "Survey", { spot: 1 }), {}, 9)).toBe(true);
    expect(isVisible(cloud(4, "Flight", { "2": 5 }), {}, 9)).toBe(false);
    expect(isVisible(contours, {}, 7)).toBe(true);
    expect(isVisible(contours, {}, 9)).toBe(false);
  });

  it("is what that person says, whatever it is", () => {
    const contours = { ...lines(3, "Contours", []), recipe, maker_id: 7 };
    expect(isVisible(contours, { 3: false }, 9)).toBe(true);
    expect(isVisible(contours, { 3: true }, 7)).toBe(false);
  });

  it("knows lines with heights, which would cover differences", () => {
    const plain = lines(3, "Rivers", []);
    const high = { ...plain, features: { ...plain.features, units: { height: "m" } } } as typeof plain;
    expect([plain, high, surface(1, "Skerry 5")].map(bearsHeights)).toEqual([false, true, false]);
  });
});

describe("heights that bear labels", () => {
  const heights = Array.from({ length: 31 }, (_, i) => i * 20);

  it("are all of few, and every so many of many, the same wherever one looks", () => {
    expect([...labelledHeights([0, 100, 200], 1)]).toEqual([0, 100, 200]);
    expect([...labelledHeights(heights, 1)]).toEqual([0, 100, 200, 300, 400, 500, 600]);
    expect([...labelledHeights(heights.slice(3), 1)]).toEqual([100, 200, 300, 400, 500, 600]);
    expect(labelledHeights([null], 1).size).toBe(0);
  });

  it("are fewer the more ground a pixel shows", () => {
    expect(labelledHeights([0, 100, 200, 300], 30).size).toBe(1);
    const bear = labelsAt([0, 100, 200, 300]);
    expect([bear(100, 1), bear(100, 30), bear(0, 30), bear(null, 1)]).toEqual([true, false, true, false]);
  });
});
