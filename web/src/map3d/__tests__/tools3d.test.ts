import { describe, expect, it } from "vitest";
import { fromEdge } from "../useTools3D";

describe("an edge of an outline", () => {
  it("is as far as its nearest place, and ends at its ends", () => {
    expect(fromEdge([5, 3], [0, 0], [10, 0])).toBe(3);
    expect(fromEdge([13, 4], [0, 0], [10, 0])).toBe(5);
    expect(fromEdge([3, 4], [0, 0], [0, 0])).toBe(5);
  });
});
