// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { Scorecard, ScorecardFigures } from "../../api/client";
import { useDesk } from "../../desk/store";
import { ScorecardSheet } from "../../stages/judge/ScorecardSheet";
import { type Asked, draw, job, points, service, surface } from "../../testing/render";
import { PartFoot } from "../PartFoot";
import { ScorecardView } from "../ScorecardView";
import { useJudgeState } from "../state";

afterEach(cleanup);
beforeEach(() =>
  useJudgeState.setState({
    removed: false,
    onto: null,
    byArea: false,
    unfolded: null,
    pressed: null,
    sorted: "le95",
    plot: "rows",
  }),
);

const figures = (le95: number, change: Partial<ScorecardFigures> = {}): ScorecardFigures => ({
  count: 150,
  unused: 50,
  mean: le95 / 4,
  median: le95 / 5,
  deviation: le95 / 2,
  rmse: le95 / 2,
  nmad: le95 / 3,
  mae: le95 / 3,
  le68: le95 / 2,
  le90: le95 * 0.8,
  le95,
  lowest: -le95,
  highest: le95 * 1.5,
  outliers: 3,
  sure: { mean: [le95 / 8, le95 / 3], le95: [le95 * 0.9, le95 * 1.2] },
  few: false,
  ...change,
});
const row = (id: number, name: string, le95: number | null): Scorecard["rows"][number] => ({
  id,
  name,
  reason: "",
  whole: le95 === null ? null : figures(le95),
  parts: le95 === null ? [] : [figures(le95 * 0.7, { count: 110 }), figures(le95 * 1.5, { count: 12, few: true })],
  crossed: [],
  left_out: id === 6 ? 24 : 0,
  shape: le95 === null ? [] : [0, 0.5, 1, 0.5, 0],
  moved: null,
  not_moved: "",
  roughness: 0.12,
  noise: le95 === null ? null : le95 / 2,
  parallax: id === 6 ? { cells: 0.25, ties: 180, height: 0.3 } : null,
});
const card = (change: Partial<Scorecard> = {}): Scorecard => ({
  waiting: [],
  sentence: "Lidar ground errs least: 95 % of its errors stay within 0.58 m.",
  places: 200,
  shared: 59,
  onto: null,
  ground: 5,
  covers: ["grass", "wood"],
  reach: 20,
  knee: 0.5,
  split: { title: "land cover", names: ["grass", "wood"], counts: [120, 12] },
  second: null,
  rows: [row(6, "Heron 90", 22.7), row(5, "Lidar ground", 0.58)],
  findings: [
    {
      cause: "shift",
      surface: 6,
      finding: {
        code: "shift",
        weight: "note",
        sentence: "Heron 90 lies about 41.0 m towards 96°.",
        why: "It is out of place.",
        fix: null,
        places: [],
        answers: [],
      },
      values: { east: 41 },
    },
  ],
  ...change,
});
const HELD = [
  surface(5, "Lidar ground"),
  surface(6, "Heron 90"),
  points(7, "Checkpoints 2026", { grass: 120, wood: 12 }),
];
const PREVIEW = {
  key: null,
  quantity: "height",
  findings: [],
  outline: [],
  cells: 1,
  cell_size: 2,
  coarse: false,
  seconds: 0,
  filled: 0,
  holding_id: null,
};
const shown = (
  answer: Scorecard | ((asked: Asked) => unknown),
  more: Record<string, unknown> = {},
  role = "editor",
) => {
  const asked = service({
    "GET /projects/1/holdings": HELD,
    "GET /projects/1/jobs": [],
    "POST /projects/1/previews": PREVIEW,
    "POST /projects/1/scorecard": answer,
    ...more,
  });
  draw(
    <>
      <ScorecardSheet />
      <ScorecardView />
      <PartFoot />
    </>,
    { checkpoints_id: 7, role: role as "editor" },
  );
  return asked;
};

describe("the scorecard", () => {
  it("has a row a surface, best first, with how sure its figures are", async () => {
    const asked = shown(card());
    const table = await screen.findByRole("table", { name: "Scorecard" });
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows.map((one) => within(one).getAllByRole("button")[0]?.textContent)).toEqual([
      " Lidar ground2 m",
      " Heron 902 m, 24 left out",
    ]);
    expect(rows[0]?.textContent).toContain("0.58 m0.52–0.70");
    expect(rows[0]?.textContent).toContain("150of 200");
    expect(screen.getByText(/errs least/)).toBeTruthy();
    expect(asked.find((one) => one.path.endsWith("/scorecard"))?.body).toMatchObject({
      surfaces: [5, 6],
      points: 7,
      reference: null,
      split: "cover",
    });
    expect(within(table).getByText(/few/)).toBeTruthy();
    fireEvent.click(within(table).getByRole("button", { name: "count" }));
    expect(useJudgeState.getState().sorted).toBe("count");
  });

  it("tells what is known of a surface without known heights in its unfolded row", async () => {
    shown(card());
    useJudgeState.setState({ unfolded: 6 });
    const told = await screen.findByText(/Without known heights/);
    expect(told.textContent).toContain("roughness 0.12 m from cell to cell, noise of about 11.3 m");
    expect(told.textContent).toContain("miss each other by 0.25 cells at 180 tie points, as much as 0.30 m of height.");
  });

  it("tells a pressed part and shows its points on the map", async () => {
    shown(card(), {
      "POST /projects/1/scorecard/places": { places: [[1, 2, -35.2]], numbers: [127], total: 1 },
    });
    fireEvent.click(await screen.findByRole("button", { name: /Heron 90 in wood/ }));
    const foot = screen.getByRole("status", { name: "Pressed part" });
    await waitFor(() => expect(foot.textContent).toContain("worst −35.20 m at point 127"));
    expect(foot.textContent).toContain("Wood: Heron 90");
    expect(foot.textContent).toContain("LE95 34.05 m");
    await waitFor(() => expect(useDesk.getState().overlays.map((one) => one.kind)).toEqual(["errors"]));
    fireEvent.click(within(foot).getByRole("button", { name: "3 outliers" }));
    expect(useJudgeState.getState().pressed).toMatchObject({ surface: 6, part: null, outliers: true });
    fireEvent.click(screen.getByRole("button", { name: "Show them on the map" }));
    expect(useDesk.getState().bench).toBe("map");
  });

  it("has judged what is not judged yet, once, and says so to viewers", async () => {
    let waiting = [6];
    const answer = () =>
      card({ waiting, rows: [row(5, "Lidar ground", 0.58), row(6, "Heron 90", waiting.length ? null : 22.7)] });
    const asked = shown(answer, {
      "POST /projects/1/scorecard/judge": () => {
        waiting = [];
        return { job: job("j") };
      },
      "GET /projects/1/jobs": () => [job("j", { state: waiting.length ? "running" : "done" })],
    });
    expect(await screen.findByRole("button", { name: /Heron 90 in wood/ })).toBeTruthy();
    expect(asked.filter((one) => one.path.endsWith("/judge"))).toHaveLength(1);
    cleanup();
    const again = shown(
      card({ waiting: [6], rows: [row(5, "Lidar ground", 0.58), row(6, "Heron 90", null)] }),
      {},
      "viewer",
    );
    expect(await screen.findByText(/an editor of this project must look/)).toBeTruthy();
    expect(again.some((one) => one.path.endsWith("/judge"))).toBe(false);
  });

  it("takes shifts off at a press, and says what was taken off", async () => {
    const moved = {
      east: 41,
      north: -4,
      up: 0.5,
      errors: [1, 1, 0.1],
      distance: 41.2,
      direction: 96,
      aspect: [90],
      swing: [40],
      swing_after: [0.1],
      dots: [],
      dots_after: [],
    };
    shown(({ body }: Asked) =>
      (body as { removed: boolean }).removed
        ? card({ onto: 5, rows: [row(5, "Lidar ground", 0.58), { ...row(6, "Heron 90", 14.3), moved }] as never })
        : card(),
    );
    fireEvent.click(await screen.findByRole("button", { name: "Remove the shift" }));
    expect(await screen.findByText(/Taken off here/)).toBeTruthy();
    expect(screen.getAllByRole("img", { name: /by aspect/ })).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: "Keep it so" }));
    expect(useDesk.getState().sheets.move).toMatchObject({
      inputs: { surface: 6 },
      params: { east: -41, north: 4, up: -0.5 },
    });
  });

  it("says what is refused instead of the rows", async () => {
    shown(
      () =>
        new Response(JSON.stringify({ detail: "Choose the polygons by which the points are split." }), { status: 422 }),
    );
    expect((await screen.findByRole("alert")).textContent).toContain("Choose the polygons");
  });
});

describe("errors by slope", () => {
  const MODELS = {
    slopes: [0, 30, 60],
    models: [
      {
        id: 5,
        name: "Lidar ground",
        reason: "",
        count: 88,
        within: 0.91,
        curves: [
          { ground: "all ground", sigma: [0.1, 0.4, 0.9], seen: [[4, 0.12, 20]], bias: -0.02 },
          { ground: "wood", sigma: [0.3, 0.5, 1.1], seen: [], bias: 0.04 },
        ],
      },
      { id: 6, name: "Heron 90", reason: "8 errors are known of this source.", count: 0, within: null, curves: [] },
    ],
  };

  it("stand as curves for each ground, with a way to a surface of them", async () => {
    shown(card(), { "POST /projects/1/scorecard/slopes": MODELS });
    fireEvent.click(await screen.findByText("Error and slope"));
    const table = await screen.findByRole("table", { name: "Error models" });
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows[0]?.textContent).toContain("−0.02 m0.10 m0.40 m8891 %");
    expect(rows[1]?.textContent).toContain("8 errors are known");
    expect(screen.getByRole("img", { name: "Errors by slope, all ground" }).querySelectorAll("polyline")).toHaveLength(
      1,
    );
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Ground" }));
    fireEvent.click(await screen.findByRole("option", { name: "wood" }));
    expect(rows[0]?.textContent).toContain("+0.04 m0.30 m0.50 m");
    fireEvent.click(screen.getByRole("button", { name: "Uncertainty of Lidar ground as a surface" }));
    expect(useDesk.getState()).toMatchObject({ stage: "Judge", operation: "uncertainty" });
    expect(useDesk.getState().sheets.uncertainty?.inputs).toEqual({ surface: 5, points: 7 });
  });
});
