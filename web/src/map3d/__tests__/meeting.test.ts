import { describe, expect, it } from "vitest";
import { type At, meeting } from "../meeting";

describe("a ray", () => {
  it("meets a tilted plane where a formula says", () => {
    const plane = (x: number, y: number) => 100 + 0.3 * x - 0.2 * y;
    const from: At = [40, -900, 700];
    const way: At = [0.1, 1, -0.6];
    const t = (from[2] - plane(from[0], from[1])) / (0.3 * way[0] - 0.2 * way[1] - way[2]);
    const found = meeting(plane, from, way, 10_000, 1) as At;
    way.forEach((one, i) => {
      expect(found[i]).toBeCloseTo((from[i] as number) + t * one, 3);
    });
  });

  it("stops at the first of two ridges, and goes through a hole", () => {
    const ridges = (_: number, y: number) => (Math.abs(y - 100) < 10 || Math.abs(y - 300) < 10 ? 50 : 0);
    expect((meeting(ridges, [0, 0, 60], [0, 1, -0.2], 1000, 1) as At)[1]).toBeCloseTo(90, 0);
    const holed = (x: number, y: number) => (Math.abs(y - 100) < 12 ? null : ridges(x, y));
    const found = meeting(holed, [0, 0, 60], [0, 1, -0.2], 1000, 1) as At;
    expect(found[1]).toBeCloseTo(290, 0);
  });

  it("meets nothing where it looks up, or beyond what is asked for", () => {
    expect(meeting(() => 0, [0, 0, 10], [0, 1, 0.1], 1000, 1)).toBeNull();
    expect(meeting(() => 0, [0, 0, 10], [0, 1, -0.001], 1000, 1)).toBeNull();
    expect(meeting(() => null, [0, 0, 10], [0, 0, -1], 1e6, 1)).toBeNull();
  });
});
