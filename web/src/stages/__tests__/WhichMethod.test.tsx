// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { shownOver } from "../../testing/desk";
import { draw, job, points, service } from "../../testing/render";
import { WhichMethod } from "../build/WhichMethod";

afterEach(cleanup);

const figures = (rmse: number, nmad: number, unused = 0) => ({
  count: 4,
  unused,
  mean: 0,
  rmse,
  nmad,
  le95: 2 * rmse,
  lowest: -1,
  highest: 1,
});
const FOUND = {
  methods: {
    nearest: { figures: figures(3.5, 2), seconds: 0.01 },
    triangulation: { figures: figures(1.25, 0.8, 1), seconds: 0.2 },
    natural_neighbour: { figures: null, seconds: 0.3 },
  },
  distance_ends: [10, 30],
  by_distance: { nearest: [2, 5], triangulation: [1, 2], natural_neighbour: [null, null] },
  folds: 10,
  points: [
    [448_000, 5_438_000],
    [448_010, 5_438_000],
  ],
  errors: { nearest: [4, -4], triangulation: [1, null], natural_neighbour: [null, null] },
  unit: "m",
  block: null,
};
const answers = (more: Record<string, unknown> = {}) => ({
  "GET /projects/1/holdings": [points(5, "Survey points", { ground: 90 })],
  "GET /projects/1/jobs": [job("j", { title: "Which method?", holding_id: 8 })],
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
  "GET /projects/1/holdings/8/table": { columns: [], rows: [], facts: FOUND },
  ...more,
});
const compared = async () => {
  draw(<WhichMethod />);
  await waitFor(() =>
    expect(screen.getByRole("button", { name: "Compare methods" })).toHaveProperty("disabled", false),
  );
  fireEvent.click(screen.getByRole("button", { name: "Compare methods" }));
  return screen.findByRole("table", { name: "Errors of every method" });
};

describe("which method", () => {
  it("lists the best first, and says of one that predicted nothing", async () => {
    service(answers());
    const table = await compared();
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows.map((row) => row.textContent)).toEqual([
      "Triangulation1.250.800.20 s",
      "Nearest3.502.000.01 s",
      "Natural neighbourpredicted nothing0.30 s",
    ]);
    expect(screen.getByRole("img", { name: /Error against distance/ }).querySelectorAll("polyline")).toHaveLength(3);
  });

  it("shows on the map where the chosen one errs", async () => {
    service(answers());
    const table = await compared();
    await waitFor(() => expect(shownOver("errors")).toHaveLength(2));
    expect(shownOver("errors")?.[0]?.share).toBeCloseTo(1 / (2.5 * 0.8));
    expect(shownOver("errors")?.[1]?.share).toBeNull();
    fireEvent.keyDown(within(table).getByText("Nearest").closest("tr") as HTMLElement, { key: "Enter" });
    await waitFor(() => expect(shownOver("errors")?.[1]?.share).toBeCloseTo(-4 / 5));
    cleanup();
    expect(shownOver("errors")).toBeUndefined();
  });

  it("asks for blocks with their side, and for each point without parts", async () => {
    const asked = service(answers());
    draw(<WhichMethod />);
    await screen.findByText("Survey points");
    fireEvent.mouseDown(screen.getByRole("combobox", { name: /Left out/ }));
    fireEvent.click(screen.getByRole("option", { name: "square blocks" }));
    fireEvent.change(screen.getByLabelText("Side"), { target: { value: "80" } });
    await waitFor(() =>
      expect(asked.filter((one) => one.path.endsWith("/previews")).at(-1)?.body).toEqual({
        operation: "which_method",
        params: { scheme: "blocks", block: 80 },
        inputs: { points: 5 },
      }),
    );
    fireEvent.mouseDown(screen.getByRole("combobox", { name: /Left out/ }));
    fireEvent.click(screen.getByRole("option", { name: "each point alone" }));
    expect(screen.queryByLabelText("Parts")).toBeNull();
  });

  it("goes on to interpolate with the one that is shown", async () => {
    service(answers());
    await compared();
    fireEvent.click(await screen.findByRole("button", { name: "Interpolate with triangulation" }));
    expect(useDesk.getState().operation).toBe("interpolate_points");
    expect(useDesk.getState().sheets.interpolate_points).toMatchObject({
      inputs: { points: 5 },
      params: { method: "triangulation" },
    });
  });

  it("names the points that their neighbours contradict, worst first", async () => {
    const errors = [0.5, -9, 12, null];
    const places = [0, 1, 2, 3].map((i) => [448_000 + 10 * i, 5_438_000]);
    service(
      answers({
        "GET /projects/1/holdings/8/table": {
          columns: [],
          rows: [],
          facts: { ...FOUND, points: places, errors: { ...FOUND.errors, triangulation: errors } },
        },
      }),
    );
    await compared();
    const list = await screen.findByRole("list", { name: "Points that do not fit" });
    // six times an NMAD of 0.8 m is 4.8 m; an error is predicted minus measured
    expect(
      within(list)
        .getAllByRole("listitem")
        .map((one) => one.textContent),
    ).toEqual(["−12.0 mbelow what is expectedLeave outGo there", "9.0 mabove what is expectedLeave outGo there"]);
    fireEvent.click(within(list).getAllByRole("button", { name: /Go to/ })[1] as HTMLElement);
    expect(useDesk.getState().goTo).toEqual({ x: 448_010, y: 5_438_000, resolution: 1 });
    fireEvent.click(screen.getByRole("button", { name: "Mark them" }));
    expect(shownOver("places")).toHaveLength(2);
    fireEvent.click(within(list).getAllByRole("button", { name: /Leave out/ })[0] as HTMLElement);
    expect(useDesk.getState().sheets.which_method?.params.left_out).toEqual([[448_020, 5_438_000]]);
    expect(screen.getByText(/left out$/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Use it again" }));
    expect(useDesk.getState().sheets.which_method?.params.left_out).toEqual([]);
  });
});
