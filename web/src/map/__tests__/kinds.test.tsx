// @vitest-environment jsdom
import { act, screen, within } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { draw, lines, service } from "../../testing/render";
import { usualDress } from "../dress";
import { KindsKey } from "../KindsKey";
import { coloursOf, countsOf } from "../kinds";
import { LinesPainter } from "../linesPainter";
import type { Collection } from "../shapes";

describe("colours by what stands in a column", () => {
  it("are the usual ones of what covers the ground, and apart for anything else", () => {
    const colours = coloursOf([
      ["wood", 9],
      ["Bog", 2],
      ["fen", 1],
    ]);
    expect([...colours.keys()]).toEqual(["Bog", "fen", "wood"]);
    expect(colours.get("wood")).toBe("#3F7440");
    expect(new Set(colours.values()).size).toBe(3);
    const many = coloursOf(Array.from({ length: 40 }, (_, i) => [`kind ${i}`, i]));
    expect(many.size).toBe(12);
    expect(many.has("kind 39")).toBe(true);
    expect(many.has("kind 1")).toBe(false);
  });

  it("are the same on the map and in its key, however values are ordered", () => {
    const counts = countsOf(["rock", "wood", "rock", null, undefined, ""]);
    expect(counts).toEqual([
      ["rock", 2],
      ["wood", 1],
      ["", 1],
    ]);
    expect(coloursOf(counts)).toEqual(coloursOf(counts.reverse()));
  });

  it("fill areas so that relief shows through", () => {
    const ring = (x: number) => [
      [x, 0],
      [x + 50, 0],
      [x + 50, 50],
      [x, 0],
    ];
    const collection = {
      type: "FeatureCollection",
      features: ["wood", "rock", null].map((kind, i) => ({
        type: "Feature",
        id: i,
        properties: { kind },
        geometry: { type: "Polygon", coordinates: [ring(100 * i)] },
      })),
    } as unknown as Collection;
    const painter = new LinesPainter(collection, [0, 0]);
    painter.dress({ ...usualDress({ id: 1, kind: "features" } as never), by: "column", column: "kind" });
    const fills: string[] = [];
    const context = {
      set fillStyle(value: string) {
        fills.push(value);
      },
      fill: () => undefined,
      stroke: () => undefined,
    } as unknown as CanvasRenderingContext2D;
    globalThis.Path2D ??= class {
      moveTo() {}
      lineTo() {}
      closePath() {}
    } as never;
    const sight = { x: 150, y: 25, resolution: 1, width: 400, height: 100, ratio: 1 };
    for (const _ of painter.paint(context, sight));
    expect(fills).toEqual(["#3F74408C", "#8D87798C", "#B9B2A28C"]);
  });

  it("are listed on the map, by holding", async () => {
    const cover = lines(4, "Land cover", []);
    service({
      "GET /projects/1/holdings": [cover],
      "GET /projects/1/holdings/4/values": [
        { value: "grass", count: 5 },
        { value: "wood", count: 2 },
      ],
    });
    draw(<KindsKey />);
    expect(screen.queryByRole("complementary")).toBeNull();
    act(() => useDesk.setState({ hidden: { 4: false }, dress: { 4: { by: "column", column: "kind" } } }));
    const key = await screen.findByRole("complementary", { name: "Colours of lines and areas" });
    expect(await within(key).findByText("wood")).toBeTruthy();
    expect(within(key).getAllByRole("listitem")).toHaveLength(2);
    expect(within(key).getByRole("heading").textContent).toBe("Land cover");
  });
});
