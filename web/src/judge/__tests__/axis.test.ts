import { describe, expect, it } from "vitest";
import { along, ticks } from "../axis";

describe("the axis of errors", () => {
  it("is even where it has no knee", () => {
    const axis = { reach: 2, knee: 0 };
    expect([-3, -2, -1, 0, 1, 2, 9].map((error) => along(axis, error))).toEqual([0, 0, 0.25, 0.5, 0.75, 1, 1]);
  });

  it("gives small errors more room where it is stretched, and keeps their order", () => {
    const axis = { reach: 20, knee: 0.2 };
    expect(along(axis, 0.2) - 0.5).toBeGreaterThan(0.05);
    const places = [-20, -1, -0.1, 0, 0.1, 1, 20].map((error) => along(axis, error));
    expect([...places].sort((a, b) => a - b)).toEqual(places);
    expect(along(axis, 1) - 0.5).toBeCloseTo(0.5 - along(axis, -1));
  });

  it("has round ticks that leave each other room", () => {
    for (const axis of [
      { reach: 20, knee: 0.2 },
      { reach: 500, knee: 0.5 },
      { reach: 1, knee: 0 },
      { reach: 0.05, knee: 0 },
    ]) {
      const found = ticks(axis);
      expect(found).toContain(0);
      expect(found.at(-1)).toBeCloseTo(axis.reach);
      const places = found.map((one) => along(axis, one));
      for (const [i, place] of places.slice(1).entries()) expect(place - (places[i] ?? 0)).toBeGreaterThan(0.1);
      for (const one of found) if (one) expect([1, 2, 5]).toContain(Number(Math.abs(one).toExponential(0)[0]));
    }
  });
});
