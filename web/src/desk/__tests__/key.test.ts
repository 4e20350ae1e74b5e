import { describe, expect, it } from "vitest";
import type { ViewFigures } from "../../api/client";
import { gradientOf, RAMPS, stopsOf } from "../../map/ramps";
import { decimalsFor } from "../format";
import { marks, rangeFor } from "../key/range";
import { FRESH } from "../store";

const figures = (low: number | null, high: number | null): ViewFigures => ({
  low,
  high,
  low2: low === null ? null : low + 1,
  high98: high === null ? null : high - 1,
  mean: null,
  empty: 0,
  first: low ?? 0,
  last: high ?? 1,
  counts: [],
  cell: 2,
});

describe("the range of a stretch", () => {
  it("covers both surfaces", () => {
    expect(rangeFor("view", [figures(5, 90), figures(-3, 70)], "height")).toEqual([-3, 90]);
    expect(rangeFor("middle", [figures(5, 90)], "height")).toEqual([6, 89]);
  });
  it("keeps zero in the middle of differences", () => {
    expect(rangeFor("view", [figures(-2, 9)], "difference")).toEqual([-9, 9]);
    expect(rangeFor("view", [figures(0, 0)], "difference")).toEqual([-0.01, 0.01]);
  });
  it("is never empty, and absent where all cells are", () => {
    expect(rangeFor("view", [figures(7, 7)], "height")).toEqual([7, 8]);
    expect(rangeFor("view", [figures(null, null)], "height")).toBeNull();
  });
});

describe("marks along the axis", () => {
  it("are round and within", () => {
    expect(marks(-8, 610, 7)).toEqual([0, 100, 200, 300, 400, 500, 600]);
    expect(marks(0.12, 0.48, 4).map((mark) => mark.toFixed(1))).toEqual(["0.2", "0.3", "0.4"]);
    expect(marks(3, 3, 5)).toEqual([3]);
  });
  it("have the decimals their range needs", () => {
    expect([decimalsFor(600), decimalsFor(12), decimalsFor(0.4), decimalsFor(0.02)]).toEqual([0, 1, 2, 3]);
  });
});

describe("ramps", () => {
  it("run from 0 to 1 in rising steps", () => {
    for (const stops of Object.values(RAMPS)) {
      const places = stops.map(([place]) => place);
      expect(places[0]).toBe(0);
      expect(places.at(-1)).toBe(1);
      expect([...places].sort((a, b) => a - b)).toEqual(places);
    }
  });
  it("take a look's own stops", () => {
    const look = {
      ...FRESH.looks.height,
      stops: [
        [0, "#17343D"],
        [1, "#FFFFFF"],
      ] as [number, string][],
    };
    expect(stopsOf(look)).toEqual(look.stops);
    expect(stopsOf({ ...look, stops: null, ramp: "Slate" })).toEqual(RAMPS.Slate);
    expect(gradientOf(look)).toContain("#17343D 0%");
  });
});
