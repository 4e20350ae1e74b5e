// @vitest-environment jsdom
import { act, cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { Catchments, NetworkFigures, Streams } from "../../api/client";
import { toolOf, useDesk } from "../../desk/store";
import { StreamsSheet } from "../../stages/drain/StreamsSheet";
import { shownOver } from "../../testing/desk";
import { type Asked, draw, lines, service, surface } from "../../testing/render";
import { useDrainState } from "../state";

afterEach(cleanup);
beforeEach(() => {
  useDrainState.setState({
    outlets: [],
    snap: 50,
    reference: undefined,
    within: 20,
    from: null,
    looked: [],
    beside: null,
    above: false,
  });
  useDesk.setState({ sheets: {} });
});

const streams = (begins: number): Streams => ({
  known: true,
  begins_at: Math.max(begins, 0.1),
  count: Math.round(800 / begins),
  length: 1_000_000 / begins,
  orders: [{ order: 1, count: 3, length: 100 }],
  streams: [
    {
      order: 2,
      line: [
        [0, 0],
        [5, 5],
      ],
    },
    {
      order: 1,
      line: [
        [9, 0],
        [5, 5],
      ],
    },
  ],
  cut_short: false,
  least: 0.1,
  most: 640,
  moved: 354_263,
  left: 2,
  filled: 9_277,
  breached: 4_938,
  missed: 0,
  burned: [],
  unsure: [],
  unsure_length: 0,
  curve: [
    [0.1, 9_000, 2_000_000],
    [640, 1, 900],
  ],
});
const figures: NetworkFigures = {
  known: true,
  begins_at: 5,
  count: 160,
  length: 69_100,
  density: 3.2,
  unsure_length: 0,
  orders: [
    { order: 1, count: 107, length: 39_000 },
    { order: 2, count: 40, length: 18_100 },
    { order: 3, count: 18, length: 12_000 },
  ],
  found: 0.94,
  own_near: 0.97,
  mean: 5.4,
  catchment: null,
  reason: "",
};
const catchments: Catchments = {
  known: true,
  catchments: [
    {
      name: "Outlet 1",
      x: 105,
      y: 100,
      moved: 14.2,
      area: 6.4,
      rings: [
        [
          [0, 0],
          [9, 0],
          [9, 9],
          [0, 0],
        ],
      ],
      near: "",
      reason: "",
    },
  ],
};

function shown(answers: Record<string, unknown> = {}, slots = { a: "key5", b: "key6" }): Asked[] {
  const asked = service({
    "GET /projects/1/holdings": [surface(5, "Best of all"), surface(6, "Beacon 30")],
    "POST /projects/1/drainage/streams": ({ body }: Asked) => streams((body as { begins_at: number }).begins_at),
    "POST /projects/1/drainage/catchments": catchments,
    "POST /projects/1/drainage": { job: null },
    "GET /projects/1/drainage/hollows/said": [],
    "GET /projects/1/drainage/networks": [],
    "POST /projects/1/drainage/figures": figures,
    ...answers,
  });
  draw(<StreamsSheet />);
  useDesk.setState({ slots, bounds: [0, 0, 800, 800] });
  return asked;
}
const asksFor = (asked: Asked[], path: string) => asked.filter((one) => one.path.endsWith(path));

describe("streams", () => {
  it("are told of A and of B, and change with where they begin", async () => {
    const asked = shown();
    await waitFor(() => expect(screen.getAllByText("160 streams, 200 km")).toHaveLength(2));
    expect(screen.getByText(/9.277 filled, 4.938 breached/)).toBeTruthy();
    expect(screen.getByText(/hollows keep their water/)).toBeTruthy();
    expect(shownOver("inked")).toHaveLength(4);
    fireEvent.change(screen.getByRole("textbox", { name: "Exactly" }), { target: { value: "20" } });
    await waitFor(() => expect(screen.getAllByText("40 streams, 50.0 km")).toHaveLength(2));
    expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ begins_at: 20, pixel: 1 });
  });

  it("say at what they begin where less is not known", async () => {
    shown({}, { a: "key5", b: "" });
    await screen.findByText("160 streams, 200 km");
    fireEvent.change(screen.getByRole("textbox", { name: "Exactly" }), { target: { value: "0.01" } });
    expect(await screen.findByText(/Shown from 0.10 ha on, the nearest that is known/)).toBeTruthy();
  });

  it("are B's where its surface is chosen, and nobody's where it is in neither", async () => {
    shown({}, { a: "key6", b: "key5" });
    useDesk.getState().sheet("streams", { inputs: { surface: 5 } });
    await waitFor(() => expect(screen.getByText("B Best of all, A Beacon 30")).toBeTruthy());
    cleanup();
    shown({}, { a: "key6", b: "" });
    useDesk.getState().sheet("streams", { inputs: { surface: 5 } });
    await waitFor(() => expect(shownOver("inked")).toHaveLength(2));
    expect((shownOver("inked") as { ink: string }[])[0]?.ink).toBe("#1F2A30");
  });

  it("wait for an editor where a viewer looks, and can be tried again where it failed", async () => {
    const asked = service({
      "GET /projects/1/holdings": [surface(5, "Best of all")],
      "POST /projects/1/drainage/streams": { known: false, count: 0 },
      "GET /projects/1/drainage/hollows/said": [],
    });
    draw(<StreamsSheet />, { role: "viewer" });
    useDesk.setState({ slots: { a: "key5", b: "" }, bounds: [0, 0, 800, 800] });
    expect(await screen.findByText(/Ask an editor to open this sheet/)).toBeTruthy();
    expect(asksFor(asked, "/drainage")).toEqual([]);
    cleanup();
    const failing = shown(
      {
        "POST /projects/1/drainage/streams": { known: false, count: 0 },
        "POST /projects/1/drainage": () => new Response('{"detail": "Every cell is empty."}', { status: 422 }),
      },
      { a: "key5", b: "" },
    );
    expect(await screen.findByText("Every cell is empty.")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Try again" }));
    await waitFor(() => expect(asksFor(failing, "/drainage")).toHaveLength(2));
  });

  it("have water followed once", async () => {
    const asked = shown({ "POST /projects/1/drainage/streams": { known: false, count: 0 } }, { a: "key5", b: "" });
    await waitFor(() => expect(asksFor(asked, "/drainage")).toHaveLength(1));
    expect(asksFor(asked, "/drainage")[0]?.body).toMatchObject({ method: "lesser", kept: null, most_depth: null });
  });

  it("stand above outlets with what drains there in both", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    fireEvent.click(screen.getByRole("button", { name: "Press an outlet on the map" }));
    const tool = toolOf(useDesk.getState());
    if (tool.kind !== "pick") throw new Error("no tool is in hand");
    act(() => tool.press({ x: 100, y: 100, resolution: 1 }));
    const table = await screen.findByRole("table", { name: "Catchments" });
    await waitFor(() => expect(within(table).getAllByText("6.40")).toHaveLength(2));
    expect(table.textContent).toContain("14 m");
    expect(asksFor(asked, "/drainage/catchments")[0]?.body).toMatchObject({
      outlets: [{ name: "Outlet 1", x: 100, y: 100 }],
      snap: 50,
    });
    // A's are held against B's
    const asks = asksFor(asked, "/drainage/catchments").map(
      ({ body }) => body as { surface: number; beside: { surface: number } | null },
    );
    expect(asks.map((one) => [one.surface, one.beside === null ? null : one.beside.surface])).toEqual([
      [5, 6],
      [6, null],
    ]);
    expect(shownOver("suspects")).toMatchObject([{ number: 1, at: [105, 100] }]);
    // B's dashes lie over A's band, and both below the streams
    const inked = shownOver("inked") as { width: number; dashed?: boolean }[];
    expect(inked).toHaveLength(6);
    expect(inked.slice(0, 2).map(({ width, dashed }) => [width, dashed])).toEqual([
      [7, false],
      [2, true],
    ]);
    const Over = useDesk.getState().atMap;
    if (!Over) throw new Error("no legend");
    render(<Over />);
    const legend = within(screen.getByRole("list", { name: "Lines on the map" })).getAllByRole("listitem");
    expect(legend.map((one) => one.textContent)).toEqual([
      "streams of A, by order",
      "catchments of A",
      "streams of B, by order",
      "catchments of B",
    ]);
    fireEvent.click(screen.getByRole("button", { name: "Remove outlet 1" }));
    expect(screen.queryByRole("table", { name: "Catchments" })).toBeNull();
  });

  it("have outlets that are called by what is near", async () => {
    shown({
      "POST /projects/1/drainage/catchments": {
        ...catchments,
        catchments: catchments.catchments?.map((one) => ({ ...one, near: "Pell Harbour" })),
      },
    });
    await screen.findAllByText("160 streams, 200 km");
    act(() => useDrainState.setState({ outlets: [{ name: "Outlet 1", x: 100, y: 100 }] }));
    expect(await screen.findByText("Pell Harbour")).toBeTruthy();
    expect(useDrainState.getState().outlets).toEqual([{ name: "Pell Harbour", x: 100, y: 100 }]);
  });

  it("are followed down from a press in both", async () => {
    const asked = shown({
      "POST /projects/1/drainage/way": {
        known: true,
        line: [
          [1, 1],
          [2, 2],
        ],
        length: 3_100,
        leaves: true,
        drained: 38.2,
      },
    });
    await screen.findAllByText("160 streams, 200 km");
    fireEvent.click(screen.getByRole("button", { name: "Follow water down from a press" }));
    const tool = toolOf(useDesk.getState());
    if (tool.kind !== "pick") throw new Error("no tool is in hand");
    act(() => tool.press({ x: 1, y: 1, resolution: 1 }));
    const told = /38 ha drain through it; from there water runs 3.1 km, off the surface/;
    await waitFor(() => expect(screen.getAllByText(told)).toHaveLength(2));
    expect(asksFor(asked, "/drainage/way")[0]?.body).toMatchObject({ x: 1, y: 1, method: "lesser" });
    expect(shownOver("inked")).toHaveLength(6);
    fireEvent.click(screen.getByRole("button", { name: "Forget it" }));
    expect(screen.queryByText(told)).toBeNull();
  });

  it("are held against rivers, and where they part stands on the map", async () => {
    const asked = shown({
      "GET /projects/1/holdings": [
        surface(5, "Best of all"),
        surface(6, "Beacon 30"),
        {
          ...lines(9, "Rivers", ["Avel"]),
          features: { ...lines(9, "Rivers", ["Avel"]).features, counts: { lines: 3 } },
        },
      ],
      "POST /projects/1/drainage/likeness": ({ body }: Asked) => ({
        known: true,
        found: 0.94,
        own_near: 0.62,
        mean: 5.4,
        median: 3.1,
        parted: (body as { surface: number }).surface === 5 ? 1 : 6,
        partings: [
          { x: 7, y: 8, away: 131, length: 400, of_reference: true },
          ...((body as { surface: number }).surface === 5 ? [] : [1, 2, 3, 4, 5]).map((x) => ({
            ...{ x, y: 8, away: 200, length: 300, of_reference: false },
          })),
        ],
      }),
      "GET /projects/1/holdings/9/features": {
        type: "FeatureCollection",
        features: [
          {
            type: "Feature",
            id: 1,
            properties: {},
            geometry: {
              type: "LineString",
              coordinates: [
                [0, 0],
                [9, 9],
              ],
            },
          },
        ],
      },
    });
    const table = await screen.findByRole("table", { name: "Against known rivers" });
    await waitFor(() => expect(within(table).getAllByText("94 %")).toHaveLength(2));
    expect(table.textContent).toContain("62 %5.4 m");
    expect(asksFor(asked, "/drainage/likeness")[0]?.body).toMatchObject({ reference: 9, within: 20, begins_at: 5 });
    fireEvent.click(within(table).getByRole("button", { name: "1 place where A parts from the reference" }));
    // those of both slots; the legend says what they are, and the rivers are drawn below the streams
    expect(shownOver("told")).toEqual([
      { at: [7, 8], ink: "#C2521B", words: "not found in A, 131 m" },
      { at: [7, 8], ink: "#3C4E9E", words: "not found in B, 131 m" },
      ...[1, 2, 3, 4].map((x) => ({ at: [x, 8], ink: "#3C4E9E", words: "B 200 m off" })),
    ]);
    expect(useDrainState.getState().parted).toBe("a");
    const inked = shownOver("inked") as { ink: string }[];
    expect(inked.map(({ ink }) => ink)).toEqual(["#5E6A70", "#3C4E9E", "#3C4E9E", "#C2521B", "#C2521B"]);
    expect(useDrainState.getState().legend.map(({ title }) => title)).toContain("parts from the reference");
    fireEvent.click(within(table).getByRole("button", { name: "6 places where B parts from the reference" }));
    expect(shownOver("told")).toHaveLength(7);
  });

  it("are drawn and made only above the outlets, where that is asked for", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    expect(screen.queryByRole("checkbox", { name: "Streams only above these" })).toBeNull();
    act(() => useDrainState.setState({ outlets: [{ name: "Pell", x: 100, y: 90 }] }));
    expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ above: [] });
    fireEvent.click(screen.getByRole("checkbox", { name: "Streams only above these" }));
    const above = [{ name: "Pell", x: 100, y: 90 }];
    await waitFor(() => expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ above, snap: 50 }));
  });

  it("say what is refused", async () => {
    shown({
      "POST /projects/1/drainage/streams": () =>
        new Response('{"detail": "It has no heights that water could run over."}', { status: 422 }),
    });
    expect(await screen.findByText("It has no heights that water could run over.")).toBeTruthy();
  });

  it("tell what is not to be trusted, and leave it out", async () => {
    const asked = shown({
      "POST /projects/1/drainage/streams": {
        ...streams(5),
        unsure: [
          [
            [1, 1],
            [9, 1],
          ],
        ],
        unsure_length: 2_300,
        missed: 1,
        burned: [
          { number: 1, turned: true, outside: false, cut: 2, astray: [7, 8] },
          { number: 2, turned: false, outside: true, cut: 0, astray: null },
        ],
      },
    });
    expect(await screen.findByText(/km of streams run over level ground/)).toBeTruthy();
    expect(screen.getByText(/lies in no hollow of this surface/)).toBeTruthy();
    expect(screen.getByText(/that are burned in was drawn uphill/)).toBeTruthy();
    expect(screen.getByText(/to be burned in lie where there are no heights/)).toBeTruthy();
    expect(screen.getByText(/leaves its valley/)).toBeTruthy();
    expect((shownOver("inked") as { dashed?: boolean }[]).filter((one) => one.dashed)).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: "Leave them out" }));
    await waitFor(() => expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ over_level: false }));
  });

  it("end in hollows that somebody said hold water", async () => {
    const asked = shown({
      "GET /projects/1/drainage/hollows/said": [
        { x: 3, y: 4, kind: "water" },
        { x: 5, y: 6, kind: "error" },
      ],
    });
    await screen.findAllByText("160 streams, 200 km");
    expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ waters_at: [[3, 4]] });
  });

  it("of a kept network stand beside those of the worksheet", async () => {
    const asked = shown({}, { a: "key5", b: "key5" });
    await screen.findByText("160 streams, 200 km");
    const kept = { surface: 5, method: "breach" as const, begins_at: 20 };
    act(() => useDrainState.setState({ beside: kept as never }));
    await screen.findByText("40 streams, 50.0 km");
    expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject(kept);
    // another surface in B is looked at as the worksheet says
    act(() => useDesk.setState({ slots: { a: "key5", b: "key6" } }));
    await waitFor(() =>
      expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ surface: 6, method: "lesser" }),
    );
  });

  it("tell of hollows that are errors in the data", async () => {
    const of = (depth: number, cells: number) => ({ x: depth, y: 8, depth, cells, kind: "error" });
    const asked = shown(
      {
        "POST /projects/1/drainage/hollows/list": {
          known: true,
          counts: { water: 1, error: 2, culvert: 0, open: 3 },
          hollows: [of(2, 30), of(61, 3)],
        },
      },
      { a: "key5", b: "" },
    );
    const said = await screen.findByText(/hollows are probably errors in the data, the deepest/);
    expect(said.textContent).toMatch(/2 hollows are .*, the deepest 61 m over 3 cells/);
    expect(asksFor(asked, "/drainage/hollows/list")[0]?.body).toMatchObject({ surface: 5, kind: "error" });
  });

  it("have hollows dealt with as one of four drawn ways says", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    const ways = within(screen.getByRole("radiogroup", { name: "Hollows" })).getAllByRole("radio");
    expect(ways.map((one) => one.closest("label")?.textContent)).toEqual(["leave", "fill", "breach", "lesser change"]);
    expect(ways.map((one) => one.closest("label")?.querySelector("svg") !== null)).toEqual([true, true, true, true]);
    expect(ways.map((one) => (one as HTMLInputElement).checked)).toEqual([false, false, false, true]);
    fireEvent.click(ways[1] as HTMLElement);
    await waitFor(() => expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ method: "fill" }));
  });

  it("beside have a sea of their own where somebody says so", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    const seas = () =>
      asksFor(asked, "/drainage/streams")
        .slice(-2)
        .map(({ body }) => body as { surface: number; sea: number | null })
        .sort((one, other) => one.surface - other.surface)
        .map(({ sea }) => sea);
    fireEvent.change(screen.getByRole("textbox", { name: "Sea up to" }), { target: { value: "1" } });
    await waitFor(() => expect(seas()).toEqual([1, 1]));
    fireEvent.change(screen.getByRole("textbox", { name: "Sea up to, in B" }), { target: { value: "4" } });
    await waitFor(() => expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ surface: 6, sea: 4 }));
  });

  it("are drawn only where both part, where that is asked for", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ apart_from: null });
    fireEvent.click(screen.getByRole("checkbox", { name: "Draw only where A and B part by 20 m" }));
    await waitFor(() => {
      const last = asksFor(asked, "/drainage/streams").slice(-2);
      const pairs = last.map(
        ({ body }) => body as { surface: number; apart_from: { surface: number }; within: number },
      );
      expect(pairs.map((one) => [one.surface, one.apart_from?.surface, one.within]).sort()).toEqual([
        [5, 6, 20],
        [6, 5, 20],
      ]);
    });
  });

  it("begin by slope too, without a curve that tells of areas alone", async () => {
    const asked = shown();
    await screen.findAllByText("160 streams, 200 km");
    expect(document.querySelector("polygon")).not.toBeNull();
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Heads" }));
    fireEvent.click(await screen.findByRole("option", { name: "by slope too" }));
    await waitFor(() => expect(asksFor(asked, "/drainage/streams").at(-1)?.body).toMatchObject({ heads: "slope" }));
    expect(document.querySelector("polygon")).toBeNull();
  });
});
