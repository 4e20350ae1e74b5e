// @vitest-environment jsdom
import { describe, expect, it } from "vitest";
import { FRESH } from "../../desk/store";
import { decodePoints } from "../pointsPainter";
import { EMPTY, styleOf } from "../style";
import { drawnCell, extentOf, originOf, Pace, riseAt, topLevel } from "../surfaceLayer";

const grid = { crs: "EPSG:32741", west: 443520, north: 5442560, cell_width: 2, cell_height: 2, rows: 4096, cols: 5120 };

describe("the frame on the map", () => {
  it("ends where its cells end", () => {
    expect(originOf(grid)).toEqual([443520, 5434368]);
    expect(extentOf(grid)).toEqual([0, 0, 10240, 8192]);
  });
  it("is placed so that 32-bit numbers tell a millimetre", () => {
    for (const value of extentOf(grid)) expect(Math.abs(Math.fround(value + 0.001) - value)).toBeGreaterThan(0.0004);
  });
  it("fits one tile at its top level", () => {
    expect(topLevel(grid)).toBe(5);
    expect(topLevel({ ...grid, rows: 10, cols: 10 })).toBe(0);
  });
  it("lights with the cells of the level that is drawn", () => {
    expect([drawnCell(grid, 0.1), drawnCell(grid, 2), drawnCell(grid, 13), drawnCell(grid, 1000)]).toEqual([
      2, 2, 16, 64,
    ]);
    expect([riseAt(2), riseAt(16), riseAt(64)]).toEqual([1, 2, 4]);
  });
});

describe("points", () => {
  it("come as four arrays one after the other", () => {
    const buffer = new ArrayBuffer(44);
    new Float64Array(buffer, 0, 4).set([1.5, 2.5, 10, 20]);
    new Float32Array(buffer, 32, 2).set([7, 8]);
    new Uint16Array(buffer, 40, 2).set([0, 3]);
    const points = decodePoints(buffer, [1, 5]);
    expect([points.count, [...points.x], [...points.y], [...points.z], [...points.code]]).toEqual([
      2,
      [0.5, 1.5],
      [5, 15],
      [7, 8],
      [0, 3],
    ]);
  });
});

describe("the style", () => {
  const text = (quantity: "height" | "slope", coarse: boolean) =>
    JSON.stringify(styleOf(FRESH.looks[quantity], quantity, coarse, FRESH.light));
  it("draws nothing where a cell is empty", () => {
    expect(EMPTY).toBeLessThan(-500_000_000);
    expect(text("height", false)).toContain('["case",["<",["band",1],-500000000],["color",0,0,0,0]');
  });
  it("takes relief from neighbours, or from the gradients a coarse surface brings", () => {
    expect(text("height", false)).toContain('["band",1,1,-1]');
    expect(text("height", true)).toContain('["band",2]');
    expect(text("height", true)).not.toContain('["band",1,1,-1]');
  });
  it("leaves quantities other than height unlit", () => {
    expect(text("slope", false)).not.toContain('"rise"]');
  });
});

describe("the pace of drawing", () => {
  const frames = (pace: Pace, gap: number, count: number) =>
    Array.from({ length: count }, (_, i) => pace.share(true, 1000 + i * gap));
  it("stays whole where frames come quickly", () => {
    expect(frames(new Pace(), 16, 30).every((share) => share === 1)).toBe(true);
  });
  it("takes fewer pixels after two slow frames, and all of them at rest", () => {
    const pace = new Pace();
    expect(frames(pace, 90, 5)).toEqual([1, 1, 0.35, 0.35, 0.35]);
    expect(pace.share(false, 5000)).toBe(1);
    expect(pace.share(true, 9000)).toBe(0.35); // known from then on
  });
  it("does not take a pause for a slow frame", () => {
    const pace = new Pace();
    expect(frames(pace, 3000, 6).every((share) => share === 1)).toBe(true);
  });
  it("can know beforehand", () => {
    const pace = new Pace();
    pace.expectSlow();
    expect(pace.share(true, 1)).toBe(0.35);
  });
});
