// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Holding, SurfaceHolding } from "../../api/client";
import { accuracyOf, sourcesOf } from "../../desk/products";
import { useDesk } from "../../desk/store";
import { drawn, inHand, shownOver } from "../../testing/desk";
import { type Asked, draw, service, surface } from "../../testing/render";
import { aboutOverlaps, MosaicSheet } from "../join/MosaicSheet";
import { OverlapsTab, typesOf } from "../join/OverlapsTab";
import { doubtsAbout, flattened } from "../join/sources";
import type { Overlap, Overlaps } from "../join/useOverlaps";

afterEach(cleanup);

const accuracy = (rmse: number, nmad: number, count = 10) => ({ count, mean: 0, rmse, nmad, checkpoints: 200 });
const tile = (id: number, name: string, change: Partial<SurfaceHolding> = {}): SurfaceHolding => ({
  ...surface(id, `Skerry 5 ${name}`, { accuracy: accuracy(0.6, 0.5) as unknown as Holding["accuracy"] }),
  origin: { depot: "skerry", product: "skerry-5", tile: name, order: 1 },
  ...change,
});
const lidar = surface(1, "Lidar ground", { accuracy: accuracy(0.9, 0.1) as unknown as Holding["accuracy"] });
const feet = {
  code: "feet",
  weight: "caution" as const,
  sentence: "Heights look like feet.",
  why: "They would be wrong.",
  fix: null,
  places: [],
  answers: [],
};
const tiles = [tile(2, "E446"), tile(3, "E448"), tile(4, "E450", { findings: [feet] })];

const pair = (first: number, second: number, change: Partial<Overlap> = {}): Overlap => ({
  first,
  second,
  cells: 20_000,
  blunders: 0,
  mean: -1.7,
  deviation: 1.2,
  lowest: -9,
  highest: 8,
  median: -1.6,
  nmad: 0.4,
  tilt: 0.12,
  direction: 90,
  unit_factor: 0,
  histogram: { low: -3, high: 1, counts: [1, 4, 2] },
  after: -0.02,
  phase: { kind: "aligned", off: 0 },
  ...change,
});
const table = (facts: unknown) => ({ columns: [], rows: [], facts });
const figures: Overlaps = {
  cell: 16,
  finest: 2,
  pairs: [pair(0, 1), pair(0, 2, { unit_factor: 0.3048, mean: -250, median: -250, blunders: 4 })],
  planes: [
    { offset: 0, tilt: 0 },
    { offset: -1.6, tilt: 0 },
    { offset: 0, tilt: 0 },
  ],
  alone: [2],
  shares: [0.25, 0.7, 0.05],
  seams: [],
  unit: "m",
};
const preview = {
  key: "mosaic-key",
  quantity: "height",
  findings: [],
  outline: [],
  cells: 20_971_520,
  cell_size: 2,
  coarse: false,
  seconds: 9,
  filled: 0.9,
  holding_id: null,
};
const answer = ({ body }: Asked) =>
  (body as { operation: string }).operation === "overlaps" ? { ...preview, key: null, table: table(figures) } : preview;
const base = {
  "GET /projects/1/holdings": [tiles[0], lidar, ...tiles.slice(1)],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": answer,
};
const open = async () => {
  const asked = service(base);
  draw(
    <>
      <MosaicSheet />
      <OverlapsTab />
    </>,
  );
  await screen.findByText("25.0 %");
  return asked;
};
const last = (asked: Asked[], operation: string) =>
  asked
    .map(
      (one) =>
        one.body as {
          operation: string;
          params: Record<string, unknown>;
          inputs: { surfaces: number[] };
          output?: string;
        },
    )
    .filter((body) => body?.operation === operation)
    .at(-1);

describe("sources of a mosaic", () => {
  it("are products with all their tiles, but for one that looks to be in another unit", () => {
    const found = sourcesOf([tiles[0] as Holding, lidar, ...tiles.slice(1)]);
    expect(found.map(({ name, holdings }) => [name, holdings.length])).toEqual([
      ["Skerry 5", 2],
      ["Lidar ground", 1],
      ["Skerry 5 E450", 1],
    ]);
    expect(flattened(found)).toEqual({ ids: [2, 3, 1, 4], groups: [0, 0, 1, 2] });
    expect(flattened(sourcesOf([lidar]))).toEqual({ ids: [1], groups: null });
  });

  it("leave a cut-out of the same product by itself, since it lies on other cells", () => {
    const cut = tile(8, "cut-out 1");
    expect(sourcesOf([tile(2, "E446"), cut, tile(3, "E448")]).map(({ name }) => name)).toEqual([
      "Skerry 5",
      "Skerry 5 cut-out 1",
    ]);
  });

  it("are as accurate as their tiles together", () => {
    const judged = (rmse: number, count: number) =>
      tile(9, "x", { accuracy: accuracy(rmse, rmse, count) as unknown as Holding["accuracy"] });
    expect(accuracyOf({ name: "", holdings: [judged(1, 30), judged(3, 10)] })?.rmse).toBeCloseTo(Math.sqrt(3));
    expect(accuracyOf({ name: "", holdings: [surface(1, "none")] })).toBeNull();
  });

  it("bring the doubts about their own files along, once for each kind", () => {
    const [doubt, ...others] = doubtsAbout(sourcesOf([...tiles, tile(5, "E452", { findings: [feet] })]));
    expect(others).toEqual([]);
    expect(doubt?.sentence).toContain("Skerry 5 E450: Heights look like feet.");
    expect(doubt?.why).toContain("The same of 1 more.");
  });
});

describe("joining", () => {
  it("takes everything, the most accurate first, and asks for the overlaps as sources", async () => {
    const asked = await open();
    const rows = within(screen.getByRole("list", { name: "Surfaces, best first" })).getAllByRole("listitem");
    expect(rows.map((row) => row.querySelector(".name")?.textContent)).toEqual([
      "Lidar ground",
      "Skerry 5",
      "Skerry 5 E450",
    ]);
    expect(rows[1]?.textContent).toContain("2 tiles");
    expect(last(asked, "overlaps")).toEqual({
      operation: "overlaps",
      params: { groups: [0, 1, 1, 2] },
      inputs: { surfaces: [1, 2, 3, 4] },
    });
    await waitFor(() => expect(last(asked, "mosaic")?.params).toEqual({ groups: [0, 1, 1, 2] }));
  });

  it("leaves out what was joined of several of them, which would count twice", async () => {
    const recipe = (operation: string, ids: number[]) =>
      ({
        operation,
        title: "",
        output: "",
        params: {},
        settings: [],
        inputs: {},
        input_ids: { surfaces: ids },
      }) as never;
    const joined = { ...surface(8, "Joined before"), recipe: recipe("calculate", [1, 2]) };
    const raised = { ...surface(9, "Raised"), recipe: recipe("change_heights", [1]) };
    const asked = service({ ...base, "GET /projects/1/holdings": [joined, raised, lidar, ...tiles] });
    draw(<MosaicSheet />);
    await waitFor(() => expect(last(asked, "mosaic")?.inputs.surfaces).toContain(9));
    expect(last(asked, "mosaic")?.inputs.surfaces).not.toContain(8);
  });

  it("moves a source with the arrow keys and leaves one out", async () => {
    const asked = await open();
    fireEvent.keyDown(screen.getByRole("button", { name: "Skerry 5, place 2 of 3" }), { key: "ArrowUp" });
    await waitFor(() => expect(last(asked, "mosaic")?.inputs.surfaces).toEqual([2, 3, 1, 4]));
    expect(last(asked, "mosaic")?.params.groups).toEqual([0, 0, 1, 2]);
    fireEvent.click(screen.getByLabelText("Use Skerry 5 E450"));
    await waitFor(() => expect(last(asked, "mosaic")?.inputs.surfaces).toEqual([2, 3, 1]));
    fireEvent.click(screen.getByLabelText(/Skerry 5 E450/));
    expect(useDesk.getState().sheets.mosaic?.inputs.surfaces).toEqual([2, 3, 1, 4]);
  });

  it("keeps holding the same source wherever it is moved to", async () => {
    const asked = await open();
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Surfaces are" }));
    fireEvent.click(await screen.findByRole("option", { name: "by an offset each" }));
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: "Held fixed" }));
    fireEvent.click(await screen.findByRole("option", { name: "Skerry 5" }));
    await waitFor(() => expect(last(asked, "mosaic")?.params).toMatchObject({ levelling: "offset", held: 1 }));
    expect(screen.getByText("held")).toBeTruthy();
    expect(screen.getByText("not tied")).toBeTruthy();
    fireEvent.keyDown(screen.getByRole("button", { name: "Skerry 5, place 2 of 3" }), { key: "ArrowUp" });
    await waitFor(() => expect(last(asked, "mosaic")?.params.held).toBe(0));
  });

  it("offers the width of a fade or the reach of a seam, and asks for sources", async () => {
    const asked = await open();
    fireEvent.change(screen.getByLabelText("Fades over"), { target: { value: "80" } });
    await waitFor(() => expect(last(asked, "mosaic")?.params.feather).toBe(80));
    fireEvent.click(screen.getByLabelText("Seam"));
    expect(screen.queryByLabelText("Fades over")).toBeNull();
    fireEvent.change(screen.getByLabelText("Within"), { target: { value: "300" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Gives" }));
    fireEvent.click(await screen.findByRole("option", { name: "Source of each cell, too" }));
    await waitFor(() =>
      expect(last(asked, "mosaic")).toMatchObject({ params: { rule: "seam", band: 300 }, output: "source" }),
    );
  });

  it("gives an area drawn on the map to a source, and it stays that source's wherever it is moved to", async () => {
    const asked = await open();
    fireEvent.click(screen.getByLabelText("Seam"));
    fireEvent.click(await screen.findByText("Draw an area where one is taken"));
    expect(inHand().kind).toBe("area");
    act(() =>
      drawn([
        [448_000.004, 5_438_000],
        [448_100, 5_438_000],
        [448_100, 5_438_100],
      ]),
    );
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: "In area 1" }));
    fireEvent.click(await screen.findByRole("option", { name: "Skerry 5" }));
    const given = () => last(asked, "mosaic")?.params.given as { surface: number; ring: number[][] }[] | undefined;
    await waitFor(() => expect(given()?.[0]?.surface).toBe(1));
    expect(given()?.[0]?.ring).toHaveLength(3);
    expect(given()?.[0]?.ring[0]).toEqual([448_000, 5_438_000]);
    expect(shownOver("seams")?.at(-1)).toHaveLength(4);
    expect(last(asked, "overlaps")?.params.given).toHaveLength(1);
    fireEvent.keyDown(screen.getByRole("button", { name: "Skerry 5, place 2 of 3" }), { key: "ArrowUp" });
    await waitFor(() => expect(given()?.[0]?.surface).toBe(0));
    fireEvent.click(screen.getByLabelText("Use Skerry 5"));
    await waitFor(() => expect(given()).toEqual([]));
  });

  it("shows what each rule makes of the middle of the view", async () => {
    const asked = service({
      ...base,
      "POST /projects/1/pictures": (one: Asked) =>
        (one.body as { runs: { params: { rule: string } }[] }).runs.map(({ params }) =>
          params.rule === "seam" ? { png: null, said: "Too many surfaces." } : { png: "AAAA", said: "" },
        ),
    });
    draw(<MosaicSheet />);
    act(() => useDesk.getState().set({ bounds: [447_000, 5_437_000, 449_000, 5_439_000] }));
    fireEvent.click(await screen.findByText(/^Show each/));
    await waitFor(() => expect(document.querySelectorAll("img.rule")).toHaveLength(11));
    expect(document.querySelector(".rule.none")?.getAttribute("title")).toBe("Too many surfaces.");
    const body = asked.findLast((one) => one.path.endsWith("/pictures"))?.body as {
      runs: unknown[];
      bounds: number[];
      width: number;
      height: number;
    };
    const [west, south, east, north] = body.bounds as [number, number, number, number];
    expect([(west + east) / 2, (south + north) / 2]).toEqual([448_000, 5_438_000]);
    expect((east - west) / (north - south)).toBeCloseTo(body.width / body.height, 6);
    expect(body.runs[0]).toMatchObject({ operation: "mosaic", params: { rule: "priority" } });
    fireEvent.click(screen.getByText("Hide the pictures"));
    expect(document.querySelector("img.rule")).toBeNull();
  });

  it("draws the seams on the map while they are the rule", async () => {
    const line: [number, number][] = [
      [448_000, 5_438_000],
      [448_100, 5_438_100],
    ];
    service({
      ...base,
      "POST /projects/1/previews": (one: Asked) =>
        (one.body as { operation: string }).operation === "overlaps"
          ? { ...preview, key: null, table: table({ ...figures, seams: [line] }) }
          : preview,
    });
    const { unmount } = draw(<MosaicSheet />);
    await screen.findByText("25.0 %");
    expect(shownOver("seams")).toEqual([]);
    fireEvent.click(screen.getByLabelText("Seam"));
    await waitFor(() => expect(shownOver("seams")).toEqual([line]));
    unmount();
    expect(shownOver("seams")).toBeUndefined();
  });

  it("leads from a doubt about a file to that file", async () => {
    await open();
    fireEvent.click(screen.getByRole("button", { name: "Look at it in Gather" }));
    expect(useDesk.getState()).toMatchObject({ stage: "Gather", operation: "arrivals", inspected: 4 });
  });

  it("says so where there is nothing to join", async () => {
    service({ ...base, "GET /projects/1/holdings": [] });
    draw(<MosaicSheet />);
    expect(await screen.findByText(/No surface yet/)).toBeTruthy();
  });
});

describe("overlaps", () => {
  const names = ["Lidar ground", "Skerry 5", "Skerry 5 E450"];
  it("speak against joining what stands higher, or in another unit", () => {
    const found = aboutOverlaps(figures, names, "none");
    expect(found.map((one) => one.sentence)).toEqual([
      "Skerry 5 E450 stands 3.28 times as high as Lidar ground.",
      "Lidar ground stands 1.60 m below Skerry 5 at the median.",
    ]);
    expect(found[1]?.fix?.set_params).toEqual({ levelling: "offset" });
    expect(aboutOverlaps(figures, names, "offset")).toHaveLength(1);
    const left = { ...figures, pairs: [pair(0, 1, { after: 2 })] };
    expect(aboutOverlaps(left, names, "tilt")[0]?.sentence).toContain("one overlap still differs");
    expect(aboutOverlaps({ ...figures, planes: [] }, names, "none")).toEqual([]);
  });

  it("stand in a table, each pair with its figures; a pressed one is shown as a difference, and back", async () => {
    const asked = await open();
    const rows = within(screen.getByRole("table", { name: "Overlaps" })).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("−1.70 m");
    expect(rows[1]?.textContent).toContain("−0.02 m");
    expect(rows[2]?.textContent).toContain("waits: feet?");
    fireEvent.click(within(rows[2] as HTMLElement).getByRole("button"));
    await waitFor(() =>
      expect(last(asked, "mosaic")).toMatchObject({ params: { pair: [0, 2] }, output: "difference" }),
    );
    expect(last(asked, "overlaps")?.params.pair).toBeUndefined();
    // moved, they are still the two; without one of them there is no difference
    fireEvent.keyDown(screen.getByRole("button", { name: "Skerry 5, place 2 of 3" }), { key: "ArrowUp" });
    await waitFor(() => expect(last(asked, "mosaic")?.params.pair).toEqual([1, 2]));
    fireEvent.click(screen.getByLabelText("Use Skerry 5 E450"));
    await waitFor(() => expect(last(asked, "mosaic")?.output).toBeUndefined());
  });

  it("are measured on every cell as a job", async () => {
    const job = {
      id: "j1",
      kind: "run",
      state: "done",
      progress: 1,
      title: "",
      message: "",
      findings: [],
      holding_id: 77,
    };
    service({
      ...base,
      "GET /projects/1/jobs": [job],
      "POST /projects/1/runs": { job, holding_id: null },
      "GET /projects/1/holdings/77/table": table({ ...figures, cell: 2, pairs: [pair(0, 1, { mean: -1.75 })] }),
    });
    draw(<OverlapsTab />);
    act(() =>
      useDesk.getState().sheet("mosaic", { inputs: { surfaces: [1, 2, 3, 4] }, params: { groups: [0, 1, 1, 2] } }),
    );
    fireEvent.click(await screen.findByText("Measure on every cell"));
    expect(await screen.findByText("−1.75")).toBeTruthy();
    expect(screen.queryByText("Measure on every cell")).toBeNull();
  });

  it("say what the cells were written as, and what is empty in them", () => {
    const written = (cell_type: string, nodata: string | null) =>
      tile(9, "x", { file: { bands: 1, cell_type, nodata, driver: "GTiff", bytes: 1 } as never });
    const mixed = { name: "", holdings: [written("int16", "-32768"), written("int16", null)] };
    expect(typesOf(mixed)).toEqual(["int16 (−32768)", "int16 (none)"]);
    expect(typesOf({ name: "", holdings: [lidar] })).toEqual(["float32 (NaN)"]);
  });

  it("say why there are none", async () => {
    service({ ...base, "GET /projects/1/holdings": [lidar] });
    draw(
      <>
        <MosaicSheet />
        <OverlapsTab />
      </>,
    );
    expect(await screen.findByText(/Choose two surfaces or more/)).toBeTruthy();
  });
});
