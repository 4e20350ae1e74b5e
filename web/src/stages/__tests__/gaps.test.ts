import { describe, expect, it } from "vitest";
import type { Drawn } from "../../map/shapes";
import { nearestGap } from "../gather/gaps";

const line = (id: number, ...coordinates: number[][]) =>
  ({ id, type: "Feature", properties: {}, geometry: { type: "LineString", coordinates } }) as unknown as Drawn;

describe("the nearest ends of lines", () => {
  it("are those of different lines, in metres", () => {
    const lines = [line(0, [0, 0], [1, 0]), line(1, [11, 0], [30, 0]), line(2, [30, 4], [50, 0])];
    expect(nearestGap(lines, 1)).toBe(4);
    expect(nearestGap(lines.slice(0, 2), 0.3048)).toBeCloseTo(3.048);
  });

  it("are not told of one line, nor where coordinates are degrees", () => {
    const lines = [line(0, [0, 0], [1, 0]), line(1, [1.1, 0], [2, 0])];
    expect(nearestGap(lines.slice(0, 1), 1)).toBeNull();
    expect(nearestGap(lines, 111_000)).toBeNull();
  });
});
