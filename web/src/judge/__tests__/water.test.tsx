// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Water, WaterBasin } from "../../api/client";
import { useDesk } from "../../desk/store";
import { between, WaterSheet } from "../../stages/judge/WaterSheet";
import { shownOver } from "../../testing/desk";
import { type Asked, draw, lines, service, surface } from "../../testing/render";

afterEach(cleanup);

const basin = (id: number, name: string, change: Partial<WaterBasin> = {}): WaterBasin => ({
  id,
  name,
  reason: "",
  level: 140,
  flatness: 0.02,
  filled: 1,
  rim: [140.1, 140.8, 143],
  spill: 143,
  cell: 2,
  areas: [0, 100_000, 200_000],
  volumes: [0, 50_000, 400_000],
  area: 287_000,
  volume: 1_234,
  spilled: false,
  unlike: null,
  shore: [
    [
      [0, 0],
      [1, 1],
    ],
  ],
  ...change,
});
const water = (level: number): Water => ({
  lake: 0,
  to: 5,
  level,
  levels: [138, 140, 142],
  basins: [
    basin(5, "Lidar ground"),
    basin(6, "Plover 30", {
      level: 141.7,
      flatness: null,
      unlike: { offset: 1.7, rim: 1.65, shared: 0.3, shared_put_right: 0.97, likeness: 0.85, verdict: "offset" },
    }),
    { id: 7, name: "Skerry 5", reason: "Skerry 5 does not reach there.", spilled: false } as WaterBasin,
  ],
});
const LAKES = [{ number: 0, name: "Lantern Water", area: 287_000, at: [448_000, 5_438_000] }];
const polygons = { ...lines(9, "Lakes", ["Lantern Water"]) };
polygons.features = { ...polygons.features, counts: { polygons: 1 } };

function shown(answers: Record<string, unknown> = {}): Asked[] {
  const asked = service({
    "GET /projects/1/holdings": [surface(5, "Lidar ground"), surface(6, "Plover 30"), surface(7, "Skerry 5"), polygons],
    "GET /projects/1/lakes/9": LAKES,
    "POST /projects/1/water": ({ body }: Asked) => water((body as { level: number | null }).level ?? 140),
    ...answers,
  });
  draw(<WaterSheet />);
  useDesk.setState({ slots: { a: "key5", b: null } });
  return asked;
}

describe("water in a lake", () => {
  it("stands in every surface, against the one in A", async () => {
    const asked = shown();
    const table = await screen.findByRole("table", { name: "Water in each surface" });
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows[0]?.textContent).toMatch(/^Lidar ground140.00 m± 0.0228.7 ha1\s230 m³$/);
    expect(rows[1]?.textContent).toContain("141.70 mempty");
    expect(rows[2]?.textContent).toContain("does not reach there");
    expect(screen.getByText(/has the shape of Lidar ground, and another zero/).textContent).toContain("1.70 m higher");
    await waitFor(() => expect(asked.findLast((one) => one.path.endsWith("/water"))?.body).toMatchObject({ to: 5 }));
    expect(shownOver("inked")).toHaveLength(1);
    fireEvent.click(screen.getByRole("checkbox", { name: /Shores of all/ }));
    await waitFor(() => expect(shownOver("inked")).toHaveLength(2));
  });

  it("follows the level at once, and asks for shores when it stays", async () => {
    const asked = shown();
    await screen.findByRole("table", { name: "Water in each surface" });
    fireEvent.change(screen.getByRole("textbox", { name: "Exactly" }), { target: { value: "141" } });
    const row = within(screen.getByRole("table", { name: "Water in each surface" })).getAllByRole("row")[1];
    expect(row?.textContent).toContain("15.0 ha");
    await waitFor(() =>
      expect(asked.findLast((one) => one.path.endsWith("/water"))?.body).toMatchObject({ level: 141 }),
    );
    await waitFor(() => expect(row?.textContent).toContain("28.7 ha"));
    fireEvent.click(screen.getByRole("button", { name: "Go there" }));
    expect(useDesk.getState().goTo).toMatchObject({ x: 448_000, y: 5_438_000 });
  });

  it("stands on all that is low in the view where no lake is meant", async () => {
    const asked = shown();
    useDesk.setState({ bounds: [1, 2, 3, 4] });
    await screen.findByRole("table", { name: "Rim of the lake" });
    fireEvent.click(screen.getByText("what is low in view"));
    await waitFor(() =>
      expect(asked.findLast((one) => one.path.endsWith("/water"))?.body).toEqual(
        expect.objectContaining({ bounds: [1, 2, 3, 4], level: null }),
      ),
    );
    expect(asked.findLast((one) => one.path.endsWith("/water"))?.body).not.toHaveProperty("features");
    expect(screen.queryByText("lake lies at")).toBeNull();
    expect(screen.queryByRole("table", { name: "Rim of the lake" })).toBeNull();
  });

  it("says what to do where there are no lakes, and what went wrong", async () => {
    shown({ "GET /projects/1/holdings": [surface(5, "Lidar ground")] });
    fireEvent.click(await screen.findByText("a lake"));
    expect(await screen.findByText(/Fetch lakes under Gather/)).toBeTruthy();
    cleanup();
    shown({ "POST /projects/1/water": () => new Response('{"detail": "There are 2 lakes."}', { status: 422 }) });
    expect(await screen.findByText("There are 2 lakes.")).toBeTruthy();
  });

  it("reads curves between the levels at which they are known", () => {
    expect(between([0, 1, 2], [0, 10, 40], 1.5)).toBe(25);
    expect(between([0, 1, 2], [0, 10, 40], 9)).toBe(40);
    expect(between([0, 1, 2], [0, 10, 40], -9)).toBe(0);
  });
});
