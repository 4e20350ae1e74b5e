import { describe, expect, it } from "vitest";
import {
  chosenTiles,
  drawnTiles,
  type Ground,
  nameOf,
  parentOf,
  partOf,
  placeOf,
  sourceOf,
  type Tile,
} from "../tiles3d";

const ground: Ground = { rows: 4096, cols: 5120, cell: 2, top: 5 };
const eyes: [number, number, number][] = [
  [5000, 4000, 300],
  [5000, -4000, 3000],
  [0, 0, 20_000],
  [10_000, 8_000, 40],
];

/** How many tiles lie over the middle of each patch of 256 x 256 frame cells. */
function cover(tiles: Tile[]): number[] {
  const counts: number[] = [];

  for (let row = 0; row < ground.rows / 256; row++)
    for (let col = 0; col < ground.cols / 256; col++)
      counts.push(
        tiles.reduce((sum, tile) => {
          const source = sourceOf(tile);
          const lies = row >> source.level === source.row && col >> source.level === source.col;
          return sum + (lies ? Math.min(4 ** tile.level, 1) : 0); // parts of a patch cover their share of it
        }, 0),
      );
  return counts;
}

describe("tiles for an eye", () => {
  it("lie over the whole frame exactly once, and are not too many", () => {
    for (const eye of eyes)
      for (const most of [1, 5, 80]) {
        const tiles = chosenTiles(ground, eye, 200, most);
        expect(tiles.length).toBeLessThanOrEqual(most);
        expect(cover(tiles).every((count) => count === 1)).toBe(true);
      }
  });

  it("are small near by and large far away", () => {
    const tiles = chosenTiles(ground, [5000, 4000, 300], 200);
    const level = (x: number, y: number) =>
      tiles.find((tile) => {
        const [west, north, width] = placeOf(ground, tile);
        return x >= west && x < west + width && y < north && y >= north - width;
      })?.level ?? -1;
    expect(level(5000, 4000)).toBe(-2);
    expect(level(5000, 4900)).toBe(0);
    expect(level(100, 7900)).toBeGreaterThan(level(5000, 4000));
    expect(chosenTiles(ground, [5000, 4000, 90_000], 200)).toEqual([{ level: 5, col: 0, row: 0 }]);
  });

  it("are parts of the map's tiles where those are not fine enough", () => {
    expect(sourceOf({ level: -2, col: 6, row: 9 })).toEqual({ level: 0, col: 1, row: 2 });
    expect(partOf({ level: -2, col: 6, row: 9 })).toEqual([128, 64, 64]);
    expect(partOf({ level: -1, col: 3, row: 4 })).toEqual([128, 0, 128]);
    expect(partOf({ level: 3, col: 3, row: 4 })).toEqual([0, 0, 256]);
    expect(sourceOf({ level: 3, col: 3, row: 4 })).toEqual({ level: 3, col: 3, row: 4 });
    for (const tile of chosenTiles(ground, [5000, 4000, 210], 200)) {
      // a part lies where its cells lie
      const [west, north, width] = placeOf(ground, tile);
      const [sourceWest, sourceNorth, sourceWidth] = placeOf(ground, sourceOf(tile));
      const [col, row, cells] = partOf(tile);
      const cell = sourceWidth / 256;
      expect([sourceWest + col * cell, sourceNorth - row * cell, cells * cell]).toEqual([west, north, width]);
    }
  });

  it("know where they lie", () => {
    expect(placeOf(ground, { level: 0, col: 1, row: 2 })).toEqual([512, 8192 - 1024, 512]);
    expect(parentOf({ level: 0, col: 5, row: 3 })).toEqual({ level: 1, col: 2, row: 1 });
  });
});

describe("what can be drawn of them", () => {
  const wanted = chosenTiles(ground, [5000, 4000, 300], 200);
  it("is what is there, or the next above it, and never one over another", () => {
    for (const share of [1, 0.6, 0.2, 0]) {
      let seed = 7;
      const kept = new Set(
        wanted
          .flatMap((tile) => [tile, parentOf(tile)])
          .filter(() => {
            seed = (seed * 16_807) % 2_147_483_647;
            return seed / 2_147_483_647 < share;
          })
          .map(nameOf),
      );
      kept.add("5/0/0");
      const drawn = drawnTiles(wanted, (tile) => kept.has(nameOf(tile)), ground.top);
      expect(cover(drawn).every((count) => count <= 1)).toBe(true);
      expect(drawn.every((tile) => kept.has(nameOf(tile)))).toBe(true);
    }
    expect(drawnTiles(wanted, () => true, ground.top)).toHaveLength(wanted.length);
    expect(drawnTiles(wanted, () => false, ground.top)).toEqual([]);
  });
});
