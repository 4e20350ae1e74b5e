// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { shownOver } from "../../testing/desk";
import { draw, job, service, surface } from "../../testing/render";
import { type Found, ShiftSheet } from "../judge/ShiftSheet";

afterEach(cleanup);

const fitness = (rmse: number, nmad: number) => ({ mean: 1, rmse, nmad, cells: 3101 });
const FOUND: Found = {
  east: 41,
  north: -4.3,
  up: 1.7,
  tilt: [0, 0],
  errors: [1.3, 1.6, 0.2, 0, 0],
  at: [448_000, 5_438_000],
  distance: Math.hypot(41, 4.3),
  direction: 96,
  cell: 90,
  before: fitness(11.59, 10.32),
  after: fitness(7.31, 6.1),
  aspect: [5, 95, 185, 275],
  swing: [-4, 41, 4, -41],
  swing_after: [0.5, null, -0.4, 0.1],
  dots: [[90, 40]],
  dots_after: [[90, 0.3]],
};
const answers = (facts: Found) => ({
  "GET /projects/1/holdings": [surface(5, "Heron 90"), surface(6, "Lidar ground")],
  "GET /projects/1/jobs": [job("j", { title: "Shift", holding_id: 8 })],
  "POST /projects/1/previews": {
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
  },
  "POST /projects/1/runs": { job: job("j", { holding_id: 8 }), holding_id: null },
  "GET /projects/1/holdings/8/table": { columns: [], rows: [], facts },
});
const found = async (facts: Found) => {
  service(answers(facts));
  draw(<ShiftSheet />);
  useDesk.getState().sheet("shift", { inputs: { surface: 5, reference: 6 } });
  const find = await screen.findByRole("button", { name: "Find the shift" });
  await waitFor(() => expect(find).toHaveProperty("disabled", false));
  fireEvent.click(find);
  return screen.findByRole("table", { name: "Where it lies" });
};

describe("a shift between two surfaces", () => {
  it("is said in words, with how sure it is, and put right by the opposite", async () => {
    const table = await found(FOUND);
    expect(table.previousSibling?.textContent).toBe("Heron 90 lies 41.2 m towards 96° and stands 1.70 m higher.");
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows.map((row) => row.textContent)).toEqual([
      "to the east+41.00 m1.300 m",
      "to the north−4.30 m1.600 m",
      "above+1.70 m0.200 m",
    ]);
    expect(screen.getByText(/RMSE/, { selector: "p" }).textContent).toContain("11.59 → 7.31 m");
    expect(screen.getAllByRole("img", { name: /by aspect/ })).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: "Put it right" }));
    expect(useDesk.getState().sheets.move).toMatchObject({
      inputs: { surface: 5 },
      params: { east: -41, north: 4.3, up: -1.7, tilt_east: 0 },
    });
    expect(useDesk.getState().operation).toBe("move");
  });

  it("is not named where it may as well be nothing", async () => {
    const table = await found({ ...FOUND, east: 1.1, north: -0.9, distance: 1.4, up: 0.3 });
    expect(table.previousSibling?.textContent).toBe("Heron 90 lies nowhere beside it and stands as high.");
  });

  it("is told piece by piece, with arrows on the map", async () => {
    const piece = { east: 3, north: 4, up: -0.2, errors: [0.1, 0.1, 0.02], distance: 5, direction: 37, reason: "" };
    await found({
      ...FOUND,
      pieces: [
        { ...piece, row: 0, col: 0, at: [448_000, 5_438_000] },
        { row: 0, col: 1, at: [449_000, 5_438_000], reason: "The ground that both show is too flat." },
        { ...piece, row: 1, col: 0, at: [448_000, 5_437_000], east: 0, north: 10, distance: 10 },
      ],
    });
    const rows = within(screen.getByRole("table", { name: "Piece by piece" }))
      .getAllByRole("row")
      .slice(1);
    expect(rows.map((row) => row.textContent)).toEqual([
      "1, 15.00 m at 37°−0.20 m",
      "1, 2The ground that both show is too flat.",
      "2, 110.0 m at 37°−0.20 m",
    ]);
    const arrows = shownOver("inked") ?? [];
    expect(arrows).toHaveLength(2);
    // twice the shift, twice the arrow, the way it lies
    const [one, other] = arrows.map(({ line: [from = [0, 0], to = [0, 0]] }) => [to[0] - from[0], to[1] - from[1]]);
    expect((one?.[0] ?? 0) / (one?.[1] ?? 1)).toBeCloseTo(0.75);
    expect(other?.[0]).toBeCloseTo(0);
    expect(Math.hypot(...(other ?? []))).toBeCloseTo(2 * Math.hypot(...(one ?? [])));
  });
});
