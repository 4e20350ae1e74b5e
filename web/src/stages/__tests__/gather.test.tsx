// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { call, type Order, type Product, type TableLook } from "../../api/client";
import { inHand, shownOver } from "../../testing/desk";
import { type Asked, draw, job, service, surface } from "../../testing/render";
import { Arrivals } from "../gather/Arrivals";
import { ColumnMatch } from "../gather/ColumnMatch";
import { OrderTiles } from "../gather/OrderTiles";

afterEach(cleanup);

const product = (depot: string, title: string, change: Partial<Product> = {}): Product => ({
  depot,
  title,
  product: `${depot}-1`,
  resolution: 30,
  reference: "bare ground",
  le90: 4.1,
  year: 2019,
  voids: "filled",
  canopy: false,
  crs: "EPSG:32741",
  datum: "Sundrel 1954",
  max_cells: 300_000,
  cell_size: 5,
  down_for: null,
  reason: "",
  ...change,
});
const tile = (name: string, standing = "", part_id: number | null = null) => ({
  name,
  bytes: 1_500_000,
  cells: 160_000,
  ring: [
    [446_000, 5_438_000],
    [448_000, 5_438_000],
    [448_000, 5_440_000],
    [446_000, 5_440_000],
  ],
  part_id,
  standing,
  holding_id: null,
});
const cover = (depot: string, tiles: object[], cells = 90_000) => ({
  depot,
  product: `${depot}-1`,
  tiles,
  cells,
  finest: cells > 300_000 ? 10 : 5,
  cell_size: 5,
  max_cells: 300_000,
  unit: "m",
  reason: "",
});
const order = (parts: Partial<Order["parts"][number]>[]): Order => ({
  id: 4,
  depot: "skerry",
  title: "Skerry 5",
  kind: "tiles",
  created_at: "",
  parts: parts.map((part, i) => ({
    id: i + 1,
    name: `T${i}`,
    standing: "waiting",
    size: 1000,
    received: 0,
    tries: 0,
    note: "",
    try_in: null,
    holding_id: null,
    ...part,
  })),
});

describe("ordering tiles", () => {
  const answers = (more: Record<string, unknown> = {}) => ({
    "GET /projects/1/holdings": [],
    "GET /projects/1/places": [{ name: "Mossgate", x: 447_000, y: 5_439_000 }],
    "GET /projects/1/orders": [],
    "GET /projects/1/depots": [
      product("skerry", "Skerry 5", { resolution: 5 }),
      product("heron", "Heron 90", { down_for: 40, reason: "Heron is down for maintenance." }),
    ],
    "POST /projects/1/depots/skerry/cover": cover("skerry", [tile("T0"), tile("T1"), tile("T2", "received", 9)]),
    "POST /projects/1/orders": order([{}, {}]),
    ...more,
  });

  it("offers what is not here yet, and says which provider is down", async () => {
    const asked = service(answers());
    draw(<OrderTiles />);
    const go = await screen.findByRole("button", { name: "Order 2 tiles" });
    expect(screen.getByText(/Heron is down for maintenance/)).toBeTruthy();
    expect(screen.getByText(/here or coming/).textContent).toBe("1 of 3 here or coming");
    fireEvent.click(go);
    await vi.waitFor(() =>
      expect(asked.some((one) => one.path === "/projects/1/orders" && one.method === "POST")).toBe(true),
    );
    expect(asked.find((one) => one.method === "POST" && one.path === "/projects/1/orders")?.body).toEqual({
      depot: "skerry",
      kind: "tiles",
      tiles: ["T0", "T1"],
    });
  });

  it("leaves a tile out when it is pressed on the map", async () => {
    service(answers());
    draw(<OrderTiles />);
    await screen.findByRole("button", { name: "Order 2 tiles" });
    act(() => shownOver("footprints")?.press("T1"));
    expect(await screen.findByRole("button", { name: "Order 1 tile" })).toBeTruthy();
    expect(shownOver("footprints")?.tiles.map((print) => print.look)).toEqual(["chosen", "open", "received"]);
  });

  it("asks for a place, a tile or a position, and for nothing where it is none of them", async () => {
    service(
      answers({
        "GET /projects/1/position": (one: Asked) =>
          one.path && new URLSearchParams(String(one.query)).get("text")?.includes("448")
            ? { x: 448_000, y: 5_438_000 }
            : new Response(JSON.stringify({ detail: "'9 9' lies outside the frame." }), { status: 422 }),
      }),
    );
    draw(<OrderTiles />);
    const field = await screen.findByLabelText("Place, tile or position");
    const type = (value: string) => fireEvent.change(field, { target: { value } });
    const middle = () => {
      const [[west, south], , [east, north]] = shownOver("area") as [number, number][] as [number, number][] &
        [[number, number], [number, number], [number, number]];
      return [(west + east) / 2, (south + north) / 2];
    };
    type("mossgate");
    await waitFor(() => expect(middle()).toEqual([447_000, 5_439_000]));
    type("Nowhere");
    expect((await screen.findByRole("alert")).textContent).toBe("No place or tile is called Nowhere.");
    await waitFor(() => expect(shownOver("area")).toBeUndefined());
    expect((screen.getByRole("button", { name: "Order 0 tiles" }) as HTMLButtonElement).disabled).toBe(true);
    type("448000 5438000");
    await waitFor(() => expect(middle()).toEqual([448_000, 5_438_000]));
    type("9 9");
    expect((await screen.findByRole("alert")).textContent).toContain("'9 9' lies outside the frame.");
    fireEvent.click(screen.getByRole("button", { name: "Pin" }));
    const pin = inHand();
    act(() => pin.kind === "pick" && pin.press({ x: 448_001.4, y: 5_438_000, resolution: 2 }));
    expect((field as HTMLInputElement).value).toBe("E 448001 N 5438000");
    await waitFor(() => expect(middle()).toEqual([448_000, 5_438_000]));
    type("9 9");
    await screen.findByRole("alert");
    fireEvent.click(screen.getByRole("button", { name: "Draw" }));
    expect((field as HTMLInputElement).value).toBe("");
    expect(screen.queryByRole("alert")).toBeNull();
    expect(inHand().kind).toBe("area");
  });

  it("keeps a cut-out within the provider's limit", async () => {
    const asked = service(answers({ "POST /projects/1/depots/skerry/cover": cover("skerry", [], 480_000) }));
    draw(<OrderTiles />);
    await screen.findByText("Skerry 5");
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "How it comes" }));
    fireEvent.click(await screen.findByRole("option", { name: "as a cut-out" }));
    const go = await screen.findByRole("button", { name: "Order the cut-out" });
    expect((go as HTMLButtonElement).disabled).toBe(true);
    fireEvent.click(await screen.findByRole("button", { name: "Cut at that" }));
    expect((go as HTMLButtonElement).disabled).toBe(false);
    fireEvent.click(go);
    await vi.waitFor(() => {
      const body = asked.find((one) => one.method === "POST" && one.path === "/projects/1/orders")?.body;
      expect(body).toMatchObject({ kind: "cut_out", cell_size: 10 });
    });
  });

  it("shows how each file of an order stands", async () => {
    service(
      answers({
        "GET /projects/1/orders": [
          order([
            { standing: "arriving", received: 640 },
            { note: "Skerry is down for maintenance.", try_in: 12.3 },
            { standing: "failed", note: "T2 arrived damaged 5 times." },
          ]),
        ],
      }),
    );
    draw(<OrderTiles />);
    const coming = await screen.findByRole("region", { name: "Order of Skerry 5" });
    expect(within(coming).getByRole("progressbar", { name: "T0" }).getAttribute("aria-valuenow")).toBe("64");
    expect(within(coming).getByText(/down for maintenance/).textContent).toContain("Again in 12 s");
    expect(screen.getByRole("alert").textContent).toBe("T2 arrived damaged 5 times.");
  });
});

describe("matching columns", () => {
  const table: TableLook = {
    file_key: "k",
    name: "odd.csv",
    layout: {
      separator: ";",
      decimal: ",",
      header: true,
      columns: ["no", "a", "b", "c"],
      x: 1,
      y: 2,
      z: 3,
      code: null,
      encoding: "utf-8",
      thousands: "",
      confidence: { x: 0.3, y: 0.3, z: 0.95 },
    },
    first_rows: [["1", "448000", "5438000", "12,5"]],
    rows: 60,
    crs: "EPSG:32741",
    findings: [],
    dots: [[448_000, 5_438_000]],
  };

  it("says which are guesses, shows dots, looks again when one is changed, and takes in what was looked at", async () => {
    const asked = service({
      "POST /projects/1/uploads/k/look": { ...table, layout: { ...table.layout, decimal: "." } },
      "POST /projects/1/uploads/k/take": { job: job("j"), holding_id: null },
    });
    const taken = vi.fn();
    draw(
      <ColumnMatch
        table={table}
        crs=""
        look={(declared) => call("POST", "/projects/1/uploads/k/look", { name: "odd.csv", declared })}
        take={(declared) => call("POST", "/projects/1/uploads/k/take", { name: "odd.csv", declared })}
        onTaken={taken}
        onLeave={() => undefined}
      />,
    );
    expect(screen.getAllByText("a guess: look at the rows")).toHaveLength(2);
    expect(shownOver("dots")).toEqual([[448_000, 5_438_000]]);
    const crs = screen.getByLabelText("CRS");
    fireEvent.change(crs, { target: { value: "EPSG:32740" } });
    fireEvent.blur(crs);
    await vi.waitFor(() => expect(asked[0]?.body).toEqual({ name: "odd.csv", declared: { crs: "EPSG:32740" } }));
    await vi.waitFor(() => expect(screen.getByRole("button", { name: /Take in/ })).toBeTruthy());
    fireEvent.click(screen.getByRole("button", { name: "Take in 60 rows" }));
    await vi.waitFor(() => expect(taken).toHaveBeenCalled());
    expect(asked[1]?.body).toEqual({ name: "odd.csv", declared: { crs: "EPSG:32740" } });
  });
});

describe("what came in", () => {
  const finding = {
    code: "void_value",
    weight: "caution" as const,
    sentence: "-9999 is not declared as empty.",
    why: "",
    fix: { label: "Make empty", set_params: { nodata: -9999 } },
    places: [],
    answers: [],
  };

  it("lists what asks for attention first and mends in one press", async () => {
    const asked = service({
      "GET /projects/1/holdings": [
        surface(1, "plain", { uploaded: true }),
        surface(2, "holed", { uploaded: true, findings: [finding] }),
        surface(3, "done", { uploaded: true, findings: [finding], fixed_by: "done, -9999 empty" }),
        surface(4, "made here"),
      ],
      "POST /projects/1/holdings/2/declare": { job: job("j"), holding_id: null },
    });
    draw(<Arrivals />);
    await screen.findByRole("region", { name: "holed" });
    expect(screen.getAllByRole("region").map((one) => one.getAttribute("aria-label"))).toEqual([
      "holed",
      "plain",
      "done",
    ]);
    expect(screen.getByText("done, -9999 empty")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Make empty" }));
    expect(await screen.findByText("A mended holding is being made beside this one.")).toBeTruthy();
    expect(asked.find((one) => one.method === "POST")?.body).toEqual({ declared: { nodata: -9999 } });
  });
});
