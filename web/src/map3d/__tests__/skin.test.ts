import { describe, expect, it } from "vitest";
import { EMPTY } from "../../map/style";
import { heightIn, heightsOf } from "../skin";

const SIDE = 258;
const MESH = 64;

/** A tile's cells with their gutter, `step` numbers each, from what a cell in a row and column says. */
function tile(step: number, height: (row: number, col: number) => number): Float32Array {
  const cells = new Float32Array(SIDE * SIDE * step).fill(7);
  for (let r = 0; r < SIDE; r++) for (let c = 0; c < SIDE; c++) cells[step * (r * SIDE + c)] = height(r - 1, c - 1);
  return cells;
}
const corner = (c: number, r: number) => r * (MESH + 1) + c;

describe("a mesh", () => {
  it("stands on a plane exactly, whatever else its cells say and however much of a tile it shows", () => {
    const plane = (r: number, c: number) => 100 + 0.5 * (c + 0.5) - 0.25 * (r + 0.5);
    for (const step of [1, 2, 4])
      for (const [col, row, width] of [
        [0, 0, 256],
        [128, 64, 64],
        [0, 128, 128],
      ] as [number, number, number][]) {
        const heights = heightsOf(tile(step, plane), step, [col, row, width]);
        for (const [c, r] of [
          [0, 0],
          [64, 64],
          [13, 50],
        ] as [number, number][]) {
          const [x, y] = [col + (c * width) / MESH, row + (r * width) / MESH];
          expect(heights[corner(c, r)]).toBeCloseTo(100 + 0.5 * x - 0.25 * y, 3);
        }
      }
  });

  it("is as high at any place as the cells around say, and nowhere in an empty one", () => {
    const plane = (r: number, c: number) => 100 + 0.5 * (c + 0.5) - 0.25 * (r + 0.5);
    for (const step of [1, 2, 4])
      for (const [col, row] of [
        [10.3, 5.7],
        [0, 0],
        [255.9, 128.2],
      ] as [number, number][])
        expect(heightIn(tile(step, plane), step, col, row)).toBeCloseTo(100 + 0.5 * col - 0.25 * row, 4);
    const holed = tile(1, (r, c) => (c >= 100 ? EMPTY : plane(r, c)));
    expect(heightIn(holed, 1, 100.1, 50)).toBeNull();
    expect(heightIn(holed, 1, 99.9, 50.5)).toBeCloseTo(100 + 0.5 * 99.5 - 0.25 * 50.5, 4);
  });

  it("has a skirt that hangs from its own rim", () => {
    const heights = heightsOf(
      tile(1, (r, c) => r * 3 + c),
      1,
      [0, 0, 256],
    );
    expect(heights).toHaveLength(65 * 65 + 4 * 64);
    expect(heights[65 * 65]).toBe(heights[corner(0, 0)]);
    expect(heights[65 * 65 + 64]).toBe(heights[corner(64, 0)]);
    expect(heights[65 * 65 + 128]).toBe(heights[corner(64, 64)]);
    expect(heights[65 * 65 + 192]).toBe(heights[corner(0, 64)]);
  });

  it("goes on beside a hole as high as the nearest cells, and has no spike in it", () => {
    const heights = heightsOf(
      tile(1, (_, c) => (c < 100 ? 500 : EMPTY)),
      1,
      [0, 0, 256],
    );
    for (let c = 0; c <= 64; c++) {
      const cells = c * 4 - 100; // beyond the last filled one
      expect(heights[corner(c, 30)]).toBe(cells > 5 ? 0 : 500);
    }
    expect(
      heightsOf(
        tile(1, () => EMPTY),
        1,
        [0, 0, 256],
      ).every((one) => one === 0),
    ).toBe(true);
  });
});
