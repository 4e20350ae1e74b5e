import type { Style } from "ol/style";
import { describe, expect, it } from "vitest";
import { areaOf, boxOf, holds, ringOf } from "../../stages/gather/area";
import { project } from "../../testing/render";
import { type CloudIndex, lookUp, squaresFor } from "../cloudPainter";
import { inkOf, passes, usualDress } from "../dress";
import { labelsLayer } from "../labelsLayer";
import { partsOf, strengthOf } from "../linesPainter";
import { covers, groundOf, type Sight } from "../slicedLayer";

const sight = (change: Partial<Sight> = {}): Sight => ({
  x: 0,
  y: 0,
  resolution: 1,
  width: 1500,
  height: 900,
  ratio: 1,
  ...change,
});

describe("a drawing that is moved with the map", () => {
  it("covers what a drag of less than its margin shows, and nothing at another scale", () => {
    expect(covers(sight(), sight({ x: 170 }))).toBe(true);
    expect(covers(sight(), sight({ x: 180 }))).toBe(false);
    expect(covers(sight(), sight({ resolution: 2 }))).toBe(false);
    expect(groundOf(sight({ x: 10, resolution: 2 }))).toEqual([-1490, -900, 1510, 900]);
  });
});

describe("squares of a cloud", () => {
  const index: CloudIndex = {
    west: 0,
    south: 0,
    size: 1024,
    levels: 3,
    count: 80_000,
    nodes: [
      [0, 0, 0, 0, 16_000],
      [1, 0, 0, 16_000, 16_000],
      [1, 1, 1, 32_000, 16_000],
      [2, 0, 0, 48_000, 16_000],
      [2, 3, 3, 64_000, 16_000],
    ],
  };
  it("are few from afar and more the nearer one looks, only those in sight", () => {
    expect(squaresFor(index, [0, 0, 1024, 1024], 8)).toEqual([0]);
    expect(squaresFor(index, [0, 0, 1024, 1024], 3)).toEqual([0, 1, 2]);
    expect(squaresFor(index, [0, 0, 1024, 1024], 1)).toEqual([0, 1, 2, 3, 4]);
    expect(squaresFor(index, [0, 0, 100, 100], 0.5)).toEqual([0, 1, 3]);
    expect(squaresFor(index, [2000, 0, 3000, 100], 0.5)).toEqual([]);
  });
  it("take their colours from the ramp's ends and between", () => {
    const table = lookUp([
      [0, "#000000"],
      [1, "#ff8000"],
    ]);
    expect(table[0]).toBe(0xff000000);
    expect(table[255]).toBe(0xff0080ff);
    expect(((table[128] as number) & 0xff) - 128).toBeLessThan(2);
  });
});

describe("lines and how they are dressed", () => {
  it("are taken apart into lines, rings and points from the map's corner", () => {
    const parts = partsOf(
      {
        type: "FeatureCollection",
        features: [
          {
            type: "Feature",
            id: 0,
            properties: { kind: "river" },
            geometry: {
              type: "LineString",
              coordinates: [
                [10, 20],
                [30, 25],
              ],
            },
          },
          {
            type: "Feature",
            id: 1,
            properties: {},
            geometry: {
              type: "MultiPolygon",
              coordinates: [
                [
                  [
                    [0, 0],
                    [9, 0],
                    [9, 9],
                    [0, 0],
                  ],
                ],
                [
                  [
                    [20, 20],
                    [21, 20],
                    [21, 21],
                    [20, 20],
                  ],
                ],
              ],
            },
          },
          { type: "Feature", id: 0, properties: {}, geometry: { type: "Point", coordinates: [5, 6] } },
        ],
      },
      [10, 20],
    );
    expect(parts.map((part) => part.kind)).toEqual(["line", "area", "area", "point"]);
    expect(Array.from(parts[0]?.places ?? [])).toEqual([0, 0, 20, 5]);
    expect(parts[0]?.box).toEqual([0, 0, 20, 5]);
  });
  it("pass a filter by one value of one column", () => {
    const get = (column: string) => ({ code: "bank", width: 3 })[column];
    expect(passes("", get)).toBe(true);
    expect(passes("code=bank", get)).toBe(true);
    expect(passes("code=toe", get)).toBe(false);
    expect(passes("width=3", get)).toBe(true);
  });
  it("bear figures on index lines alone where there are any", () => {
    const line = (kind: string, height: number) => ({
      type: "Feature",
      properties: { kind, height },
      geometry: {
        type: "LineString",
        coordinates: [
          [0, 0],
          [100, 0],
        ],
      },
    });
    const dress = { ...usualDress({ id: 1, kind: "features" } as never), label: "height", unit: "ft" };
    const labels = (...kinds: string[]) => {
      const features = kinds.map((kind, i) => line(kind, 10 * i));
      const layer = labelsLayer({ type: "FeatureCollection", features }, [0, 0], dress);
      const style = layer.getStyleFunction();
      const source = layer.getSource() as unknown as { getFeatures(): never[] };
      return source.getFeatures().map((one) => (style?.(one, 1) as Style | undefined)?.getText()?.getText());
    };
    expect(labels("line", "index")).toEqual([undefined, "10\u202fft"]);
    expect(labels("line", "line")).toEqual(["0\u202fft", "10\u202fft"]);
  });

  it("are labelled by their height or name, areas not at all", () => {
    const holding = (attributes: Record<string, string>, counts: Record<string, number>) =>
      ({
        id: 1,
        kind: "features",
        features: { attributes, counts, units: { elev: "m" }, vertices: 1, crs: "", layer: "", layers: [] },
      }) as never;
    expect(usualDress(holding({ elev: "number", sheet: "text" }, { lines: 3 }))).toMatchObject({
      label: "elev",
      unit: "m",
    });
    expect(usualDress(holding({ name: "text" }, { lines: 3 })).label).toBe("name");
    expect(usualDress(holding({ name: "text" }, { polygons: 3 })).label).toBe("");
    expect(inkOf(usualDress(holding({}, { lines: 1 })), "river")).toBe("#1D4752");
  });
});

describe("areas", () => {
  const ring: [number, number][] = [
    [0, 0],
    [10, 0],
    [10, 10],
    [0, 10],
  ];
  it("have a box and a size", () => {
    expect(areaOf(ring)).toBe(100);
    expect(boxOf(ring)).toEqual([0, 0, 10, 10]);
    expect(areaOf(ringOf(project.frame.grid))).toBe(10_240 * 8_192);
  });
  it("share ground when one holds a corner of the other or their sides cross", () => {
    const square = (x: number, y: number, side: number): [number, number][] => [
      [x, y],
      [x + side, y],
      [x + side, y + side],
      [x, y + side],
    ];
    expect(holds(ring, square(8, 8, 5))).toBe(true);
    expect(holds(ring, square(-5, -5, 30))).toBe(true);
    expect(holds(ring, square(2, 2, 3))).toBe(true);
    expect(
      holds(ring, [
        [-5, 4],
        [15, 4],
        [15, 6],
        [-5, 6],
      ]),
    ).toBe(true);
    expect(holds(ring, square(11, 0, 5))).toBe(false);
  });
});

describe("lines that lie close", () => {
  const sight = { x: 0, y: 0, resolution: 10, width: 100, height: 100, ratio: 1 };
  it("are drawn whole while they leave the ground in sight", () => {
    expect(strengthOf(0, sight)).toBe(1);
    expect(strengthOf(9_000, sight)).toBe(1);
  });
  it("are fainter the closer they lie, and never gone", () => {
    expect(strengthOf(20_000, sight)).toBeCloseTo(0.5);
    expect(strengthOf(1e9, sight)).toBe(0.25);
  });
});
