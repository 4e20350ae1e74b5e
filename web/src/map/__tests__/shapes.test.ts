import { describe, expect, it } from "vitest";
import { type Collection, featureAt, lineOf, linesOf, reshaped, type Shape, startOf, vertexAt } from "../shapes";

const line = (...coordinates: number[][]): Shape => ({ type: "LineString", coordinates });
const area = (...rings: number[][][]): Shape => ({ type: "Polygon", coordinates: rings });
const square = (x: number, y: number, side: number) => [
  [x, y],
  [x + side, y],
  [x + side, y + side],
  [x, y + side],
  [x, y],
];

describe("shapes", () => {
  it("give their longest line to draw a profile along, and points none", () => {
    const lines = [
      [
        [0, 0],
        [1, 1],
      ],
      [
        [5, 5, 9],
        [6, 6, 9],
        [7, 7, 9],
      ],
    ];
    expect(lineOf({ type: "MultiLineString", coordinates: lines })).toEqual([
      [5, 5],
      [6, 6],
      [7, 7],
    ]);
    expect(lineOf({ type: "Point", coordinates: [1, 2] })).toBeNull();
    const long = Array.from({ length: 10_002 }, (_, i) => [i, 0]);
    const thinned = lineOf({ type: "LineString", coordinates: long });
    expect(thinned?.length).toBeLessThanOrEqual(4_001);
    expect(thinned?.at(-1)).toEqual([10_001, 0]);
  });

  it("have lines in the order they are written", () => {
    const holed = { type: "MultiPolygon", coordinates: [[square(0, 0, 9), square(2, 2, 1)], [square(20, 0, 1)]] };
    expect(linesOf(holed).map((ring) => ring[0])).toEqual([
      [0, 0],
      [2, 2],
      [20, 0],
    ]);
    expect(startOf({ type: "Point", coordinates: [4, 5, 6] })).toEqual([4, 5]);
  });

  it("are found by the nearest line first, then by the smallest area around", () => {
    const collection: Collection = {
      type: "FeatureCollection",
      features: [
        { type: "Feature", id: 4, properties: {}, geometry: area(square(0, 0, 100)) },
        { type: "Feature", id: 7, properties: {}, geometry: area(square(40, 40, 20)) },
        { type: "Feature", id: 9, properties: {}, geometry: line([0, 70], [100, 70]) },
      ],
    };
    expect(featureAt(collection, [50, 68], 3)).toBe(9);
    expect(featureAt(collection, [50, 50], 3)).toBe(7);
    expect(featureAt(collection, [10, 10], 3)).toBe(4);
    expect(featureAt(collection, [300, 10], 3)).toBe(null);
  });

  it("tell which of their vertices was meant", () => {
    expect(vertexAt(line([0, 0], [10, 0], [20, 0]), [10.5, 0.5], 2)).toEqual({ part: 0, vertex: 1 });
    expect(vertexAt(line([0, 0], [10, 0]), [5, 0], 2)).toBe(null);
  });
});

describe("what was done to a shape", () => {
  const before = line([0, 0], [10, 0], [20, 0]);
  it.each<[string, Shape, object | null]>([
    ["nothing", line([0, 0], [10, 0], [20, 0]), null],
    ["moved", line([0, 0], [10, 5], [20, 0]), { kind: "move_vertex", part: 0, vertex: 1, x: 10, y: 5 }],
    ["added", line([0, 0], [10, 0], [15, 2], [20, 0]), { kind: "add_vertex", part: 0, vertex: 1, x: 15, y: 2 }],
    ["taken away", line([0, 0], [20, 0]), { kind: "remove_vertex", part: 0, vertex: 1 }],
    ["end taken away", line([0, 0], [10, 0]), { kind: "remove_vertex", part: 0, vertex: 2 }],
  ])("%s", (_, after, wanted) => {
    expect(reshaped(before, after)).toEqual(wanted);
  });

  it("a corner where a ring closes is one vertex", () => {
    const moved = square(0, 0, 10);
    moved[0] = [-2, -2];
    moved[4] = [-2, -2];
    expect(reshaped(area(square(0, 0, 10)), area(moved))).toMatchObject({ kind: "move_vertex", vertex: 0 });
  });
});
