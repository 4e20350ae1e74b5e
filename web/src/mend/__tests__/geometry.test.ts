import { describe, expect, it } from "vitest";
import type { Line } from "../../map/shapes";
import { areaOf, between, boxAround, lengthOf, movedTo, profileLine, rectangleAround } from "../geometry";
import { KINDS, newPatch, OPERATORS, settingsOf, usualOperator } from "../operators";

const FAR: [number, number] = [449_164, 5_436_001];
/** A deck of 180 by 10 metres, turned by 20 degrees. */
const DECK = [
  [-90, -5],
  [90, -5],
  [90, 5],
  [-90, 5],
].map(([u = 0, v = 0]): [number, number] => {
  const turn = (20 * Math.PI) / 180;
  return [FAR[0] + u * Math.cos(turn) - v * Math.sin(turn), FAR[1] + u * Math.sin(turn) + v * Math.cos(turn)];
});

describe("outlines", () => {
  it("are measured as a ruler does, far from zero too", () => {
    expect(areaOf(DECK)).toBeCloseTo(1800, 3);
    const { middle, length, width, along } = boxAround(DECK);
    expect(length).toBeCloseTo(180, 4);
    expect(width).toBeCloseTo(10, 4);
    expect(middle[0]).toBeCloseTo(FAR[0], 4);
    expect(Math.abs(along[1] / along[0])).toBeCloseTo(Math.tan((20 * Math.PI) / 180), 6);
    expect(
      lengthOf([
        [0, 0],
        [3, 4],
        [3, 9],
      ]),
    ).toBe(10);
  });

  it("have a rectangle around them, of which a deck is its own", () => {
    const around = rectangleAround(DECK);
    expect(areaOf(around)).toBeCloseTo(1800, 3);
    for (const [x, y] of DECK) expect(Math.min(...around.map(([u, v]) => Math.hypot(u - x, v - y)))).toBeLessThan(1e-3);
    const rough: Line = DECK.map(([x, y], i) => (i === 2 ? [x + 3, y + 1] : [x, y]));
    expect(areaOf(rectangleAround(rough))).toBeGreaterThan(areaOf(rough));
  });

  it("lie between two banks, whichever way these were drawn", () => {
    const bank = (y: number): Line => [0, 10, 20].map((x) => [x, y]);
    const ring = between(bank(0), bank(4));
    expect(areaOf(ring)).toBeCloseTo(80, 6);
    expect(areaOf(between(bank(0), bank(4).reverse()))).toBeCloseTo(80, 6);
    expect(areaOf(between(bank(0).reverse(), bank(4)))).toBeCloseTo(80, 6);
  });

  it("are crossed in the middle, and followed along their length", () => {
    const across = profileLine(DECK, true, false, 40);
    expect(lengthOf(across)).toBeCloseTo(80, 4);
    const along = profileLine(DECK, true, true, 40);
    expect(lengthOf(along)).toBeCloseTo(234, 3);
    const [[ax, ay], [bx, by]] = across as [[number, number], [number, number]];
    const [[cx, cy], [dx, dy]] = along as [[number, number], [number, number]];
    expect((bx - ax) * (dx - cx) + (by - ay) * (dy - cy)).toBeCloseTo(0, 2);
    const river: Line = [
      [0, 0],
      [10, 0],
      [20, 0],
    ];
    expect(profileLine(river, false, true, 5)).toBe(river);
    expect(profileLine(river, false, false, 5)).toEqual([
      [15, -5],
      [15, 5],
    ]);
  });

  it("are copied as they are", () => {
    const moved = movedTo(DECK, [0, 0]);
    expect(areaOf(moved)).toBeCloseTo(1800, 3);
    expect(boxAround(moved).middle[0]).toBeCloseTo(0, 6);
  });
});

describe("operators", () => {
  it("stand with a title and a profile for each that the core has", () => {
    for (const kind of KINDS) {
      expect(OPERATORS[kind].after).toMatch(/^M/);
      for (const [name, property] of settingsOf(kind)) expect(property.title, `${kind}.${name}`).toBeTruthy();
    }
    expect(settingsOf("along").map(([name]) => name)).toEqual(["window"]);
  });

  it("show a setting only beside those with which it has a meaning", () => {
    const smooth = usualOperator("smooth");
    expect(settingsOf("smooth", smooth).map(([name]) => name)).not.toContain("edge");
    expect(settingsOf("smooth", { ...smooth, how: "edges" } as never).map(([name]) => name)).toContain("edge");
  });

  it("begin with what is usual, and with the given height where one must be given", () => {
    expect(usualOperator("height", 12.5)).toEqual({ kind: "height", height: 12.5 });
    const patch = newPatch({ ring: DECK as never }, usualOperator("along"));
    expect(patch).toMatchObject({ name: "Along", on: true, times: 1, operator: { kind: "along", window: 50 } });
  });
});
