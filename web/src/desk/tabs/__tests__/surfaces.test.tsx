// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { SurfaceHolding } from "../../../api/client";
import { draw, service, surface } from "../../../testing/render";
import { useDesk } from "../../store";
import { listed } from "../surfaces/list";
import { SurfacesTab } from "../surfaces/SurfacesTab";
import { SurfaceTools } from "../surfaces/SurfaceTools";

afterEach(cleanup);
beforeEach(() =>
  useDesk.setState({
    foldedAway: [],
    surfaceOrder: "newest",
    sift: { text: "", kind: "all" },
    slots: { a: null, b: null },
  }),
);

const judged = (rmse: number) => ({ rmse, nmad: rmse, count: 10, unused: 0, outliers: 0, reason: "" });
const tile = (id: number, at: string, change: Partial<SurfaceHolding> = {}) =>
  surface(id, `Plover 30 ${at}`, { origin: { product: "plover-30", tile: at }, ...change });
const HELD = [
  surface(9, "Survey 10", { live: true, accuracy: judged(0.5) as never }),
  surface(8, "Survey 9", { accuracy: judged(0.2) as never }),
  surface(7, "Old lidar", { fixed_by: "Lidar", fixed_by_id: 6 }),
  tile(3, "S42"),
  tile(2, "S41"),
  surface(1, "Beacon 30"),
];
const asked = { text: "", kind: "all" as const, order: "newest" as const, folded: [], looked: [] };
const names = (change: Partial<Parameters<typeof listed>[1]>) =>
  listed(HELD, { ...asked, ...change }).map(({ name, holdings }) => [name, holdings.length]);

describe("the list of surfaces", () => {
  it("holds the tiles of a product together, and leaves out what is folded away", () => {
    expect(names({})).toEqual([
      ["Survey 10", 1],
      ["Survey 9", 1],
      ["Plover 30", 2],
      ["Beacon 30", 1],
    ]);
    expect(names({ folded: [1] }).map(([name]) => name)).not.toContain("Beacon 30");
    expect(names({ kind: "folded", folded: [1] })).toEqual([
      ["Old lidar", 1],
      ["Beacon 30", 1],
    ]);
    // what is looked at stands there all the same
    expect(names({ folded: [1], looked: ["key1", "key7"] }).map(([name]) => name)).toContain("Old lidar");
  });

  it("is filtered by kind and by words of names", () => {
    expect(names({ kind: "live" })).toEqual([["Survey 10", 1]]);
    expect(names({ kind: "stored", text: "survey" })).toEqual([["Survey 9", 1]]);
    expect(names({ text: "s42 plover" })).toEqual([["Plover 30 S42", 1]]);
    expect(names({ text: "  " })).toHaveLength(4);
  });

  it("follows an order; what is not known comes last", () => {
    expect(names({ order: "name" }).map(([name]) => name)).toEqual(["Beacon 30", "Plover 30", "Survey 9", "Survey 10"]);
    expect(names({ order: "exact" }).map(([name]) => name)).toEqual([
      "Survey 9",
      "Survey 10",
      "Plover 30",
      "Beacon 30",
    ]);
  });
});

describe("many surfaces in the strip", () => {
  it("show the tiles of a product as one card, which opens, and joins them", async () => {
    service({ "GET /projects/1/holdings": HELD });
    draw(<SurfacesTab />);
    const card = await screen.findByRole("article", { name: "Plover 30, 2 tiles" });
    expect(screen.queryByRole("article", { name: "Plover 30 S42" })).toBeNull();
    fireEvent.click(within(card).getByRole("button", { name: "Show tiles" }));
    expect(screen.getByRole("article", { name: "Plover 30 S42" })).toBeTruthy();
    fireEvent.click(within(card).getByRole("button", { name: "Join" }));
    expect(useDesk.getState()).toMatchObject({ stage: "Join", operation: "mosaic" });
    expect(useDesk.getState().sheets.mosaic?.inputs).toEqual({ surfaces: [3, 2] });
  });

  it("are found, folded away and shown again", async () => {
    service({ "GET /projects/1/holdings": HELD });
    draw(
      <>
        <SurfaceTools />
        <SurfacesTab />
      </>,
    );
    fireEvent.click(await screen.findByRole("button", { name: "More about Beacon 30" }));
    fireEvent.click(screen.getByRole("menuitem", { name: "Fold away" }));
    expect(screen.queryByRole("article", { name: "Beacon 30" })).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Show 2 folded away" }));
    expect(screen.getAllByRole("article").map((one) => one.getAttribute("aria-label"))).toEqual([
      "Old lidar",
      "Beacon 30",
    ]);
    fireEvent.change(screen.getByRole("textbox", { name: "Find a surface" }), { target: { value: "nothing" } });
    expect(screen.getByText(/No surface is called/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Show all" }));
    expect(screen.getByRole("article", { name: "Survey 9" })).toBeTruthy();
  });

  it("are drawn as far as they are in sight", async () => {
    service({ "GET /projects/1/holdings": Array.from({ length: 500 }, (_, i) => surface(500 - i, `Surface ${i}`)) });
    draw(<SurfacesTab />);
    await screen.findByRole("article", { name: "Surface 0" });
    expect(screen.getAllByRole("article").length).toBeLessThan(40);
  });
});
