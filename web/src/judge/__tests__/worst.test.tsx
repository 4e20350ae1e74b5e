// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Holding, WorstPlace } from "../../api/client";
import { useDesk } from "../../desk/store";
import { giveTo } from "../../stages/join/giveTo";
import { draw, lines, service, surface } from "../../testing/render";
import { useJudgeState } from "../state";
import { WorstTab } from "../WorstTab";

afterEach(cleanup);

const place = (number: number): WorstPlace => ({
  number,
  x: 448_000 + number,
  y: 5_438_000,
  ring: [
    [448_000, 5_438_000],
    [448_100, 5_438_000],
    [448_100, 5_438_100],
  ],
  area: 174_000,
  volume: -3_500_000,
  mean: -20.2,
  lowest: -31,
  highest: -4,
  slope: 12,
  cover: "wood",
  near: `Hallow Wood, north ${number}`,
  cause: "trees",
  title: "trees",
  which: "second",
  corner: [447_950, 5_438_150],
  side: [200, 200],
  reach: 30,
  png_a: "",
  png_b: "",
  png_minus: "",
});
const HELD = [surface(5, "Lidar ground"), surface(6, "Beacon 30")];

const shown = (slots: { a: string | null; b: string | null }, answer: unknown) => {
  const asked = service({ "GET /projects/1/holdings": HELD, "POST /projects/1/worst-places": answer });
  draw(<WorstTab />);
  useDesk.setState({ slots });
  return asked;
};

describe("worst places", () => {
  it("stand as cards with what is suspected, and lead there", async () => {
    const asked = shown(
      { a: "key5", b: "key6" },
      { count: 12, told: 12, volume: 9_000_000, median: -0.3, cell: 8, places: [1, 2, 3, 4, 5].map(place) },
    );
    const list = await screen.findByRole("list", { name: "Worst places" });
    const [first] = await within(list).findAllByRole("listitem");
    expect(first?.textContent).toContain("Hallow Wood, north 1");
    expect(first?.textContent).toContain("17.4 ha, wood");
    expect(first?.textContent).toContain("−20.2 m");
    expect(first?.textContent).toContain("trees in B");
    expect(screen.getByRole("status").textContent).toContain("12 places, 9\u00a0000 thousand m³");
    expect(asked.find((one) => one.path.endsWith("worst-places"))?.body).toMatchObject({
      a: "key5",
      b: "key6",
      bounds: null,
    });
    fireEvent.click(within(list).getByRole("button", { name: "Go to place 2" }));
    expect(useDesk.getState().goTo).toMatchObject({ x: 448_002, y: 5_438_000 });
    fireEvent.click(within(list).getAllByRole("button", { name: "Mend" })[0] as HTMLElement);
    expect(useDesk.getState()).toMatchObject({ stage: "Mend", operation: "mend" });
    fireEvent.click(screen.getByRole("button", { name: "Places after" }));
    await waitFor(() => expect(asked.at(-1)?.body).toMatchObject({ first: 5 }));
  });

  it("hand the surface that is not suspected to Join, area by area", async () => {
    shown(
      { a: "key5", b: "key6" },
      { count: 2, told: 2, volume: 9e6, median: 0, cell: 8, places: [place(1), { ...place(2), which: "first" }] },
    );
    useDesk.setState({ sheets: {} });
    fireEvent.click(await screen.findByRole("button", { name: "Use A" }));
    const first = useDesk.getState();
    expect(first).toMatchObject({ stage: "Join", operation: "mosaic" });
    expect(first.sheets.mosaic?.inputs).toEqual({ surfaces: [6, 5] });
    expect(first.sheets.mosaic?.params).toMatchObject({ rule: "seam", given: [{ surface: 1, ring: place(1).ring }] });
    // another one goes into the same mosaic, once
    const other = [
      [1, 2],
      [3, 4],
      [5, 0],
    ] as [number, number][];
    for (let again = 0; again < 2; again++) giveTo(HELD[1] as Holding, HELD[0] as Holding, other);
    expect(useDesk.getState().sheets.mosaic?.params.given).toEqual([
      { surface: 1, ring: place(1).ring },
      { surface: 0, ring: other },
    ]);
    // tiles of one product count as one
    useDesk
      .getState()
      .sheet("mosaic", { inputs: { surfaces: [7, 8, 6, 5] }, params: { groups: [0, 0, 1, 2], rule: "feather" } });
    giveTo(HELD[0] as Holding, HELD[1] as Holding, other);
    expect(useDesk.getState().sheets.mosaic?.params.given).toEqual([{ surface: 2, ring: other }]);
  });

  it("take only what is called land cover for it, until somebody chooses", async () => {
    const areas = (id: number, name: string) => {
      const held = lines(id, name, ["a"]);
      return { ...held, features: { ...held.features, counts: { polygons: 1 }, attributes: { kind: "text" } } };
    };
    const answer = { count: 1, told: 1, volume: 9e6, median: 0, cell: 8, places: [place(1)] };
    const asked = service({
      "GET /projects/1/holdings": [...HELD, areas(8, "Boundary"), areas(9, "Land cover")],
      "POST /projects/1/worst-places": answer,
    });
    draw(<WorstTab />);
    useDesk.setState({ slots: { a: "key5", b: "key6" } });
    await waitFor(() => expect(asked.at(-1)?.body).toMatchObject({ cover: 9 }));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Land cover" }));
    fireEvent.click(await screen.findByRole("option", { name: "none" }));
    await waitFor(() => expect(asked.at(-1)?.body).toMatchObject({ cover: null }));
    useJudgeState.setState({ cover: undefined });
  });

  it("ask for two surfaces, and say what is refused", async () => {
    shown({ a: "key5", b: null }, {});
    expect(await screen.findByText(/Put one surface of heights in A/)).toBeTruthy();
    cleanup();
    shown(
      { a: "key5", b: "key6" },
      () => new Response(JSON.stringify({ detail: "They are equal all over." }), { status: 422 }),
    );
    expect((await screen.findByRole("alert")).textContent).toContain("equal all over");
  });
});
