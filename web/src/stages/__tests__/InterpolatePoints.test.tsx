// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import type { DotPoints } from "../../map/pointsPainter";
import { inHand } from "../../testing/desk";
import { type Asked, draw, job, lines, points, project, service, surface } from "../../testing/render";
import { InterpolatePoints } from "../build/InterpolatePoints";
import { nearestTo } from "../build/LeftOut";

const survey = points(5, "Survey points", { ground: 4000, spot: 200 });
const preview = {
  key: "preview-key",
  quantity: "height",
  findings: [
    {
      code: "reach",
      weight: "note",
      sentence: "Cells beyond 60 m of a point stay empty.",
      why: "",
      fix: null,
      places: [],
    },
  ],
  outline: [],
  cells: 20_971_520,
  cell_size: 2,
  coarse: false,
  seconds: 3.4,
  filled: 0.1,
  holding_id: null,
};
const base = {
  "GET /projects/1/holdings": [survey],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": preview,
};
const bodies = (asked: Asked[], path: string) => asked.filter((one) => one.path.endsWith(path)).map((one) => one.body);

afterEach(cleanup);

describe("interpolating points", () => {
  it("takes the points at hand with a reach limit, and says what a run costs", async () => {
    const asked = service(base);
    draw(<InterpolatePoints />);
    expect(await screen.findByText(/21.0 million cells/)).toBeTruthy();
    expect(bodies(asked, "/previews").at(-1)).toEqual({
      operation: "interpolate_points",
      params: { reach_limit: 60 },
      inputs: { points: 5 },
    });
    expect(useDesk.getState().preview?.key).toBe("preview-key");
    expect(screen.getByText(/Cells beyond/)).toBeTruthy();
  });

  it("asks for another preview when a code is left out, and none of codes when all are used", async () => {
    const asked = service(base);
    draw(<InterpolatePoints />);
    fireEvent.click(await screen.findByLabelText(/^spot/));
    await waitFor(() =>
      expect((bodies(asked, "/previews").at(-1) as { params: object }).params).toMatchObject({ codes: ["ground"] }),
    );
    fireEvent.click(screen.getByLabelText(/^spot/));
    await waitFor(() =>
      expect((bodies(asked, "/previews").at(-1) as { params: object }).params).not.toHaveProperty("codes"),
    );
  });

  it("takes the preview away when it is switched off", async () => {
    service(base);
    draw(<InterpolatePoints />);
    await waitFor(() => expect(useDesk.getState().preview).not.toBeNull());
    fireEvent.click(screen.getByRole("switch", { name: "Preview" }));
    await waitFor(() => expect(useDesk.getState().preview).toBeNull());
  });

  it("cannot run what a finding stops, and shows a refusal as it was said", async () => {
    const stop = { ...preview.findings[0], code: "too_few", weight: "stop", sentence: "2 points are left." };
    service({ ...base, "POST /projects/1/previews": { ...preview, key: null, findings: [stop] } });
    const { unmount } = draw(<InterpolatePoints />);
    expect(await screen.findByText(/points are left/)).toBeTruthy();
    expect((screen.getByRole("button", { name: "Run" }) as HTMLButtonElement).disabled).toBe(true);
    unmount();
    const refusal = () =>
      new Response(JSON.stringify({ detail: "Interpolate points: power: too small." }), { status: 422 });
    service({ ...base, "POST /projects/1/previews": refusal });
    draw(<InterpolatePoints />);
    expect((await screen.findByRole("alert")).textContent).toBe("Interpolate points: power: too small.");
    expect((screen.getByRole("button", { name: "Run" }) as HTMLButtonElement).disabled).toBe(true);
  });

  it("asks with breaklines when lines are chosen for them, and without when none are", async () => {
    const asked = service({ ...base, "GET /projects/1/holdings": [survey, lines(8, "Banks", ["left", "right"])] });
    draw(<InterpolatePoints />);
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: /Breaklines/ }));
    fireEvent.click(screen.getByRole("option", { name: "Banks" }));
    await waitFor(() =>
      expect(bodies(asked, "/previews").at(-1)).toMatchObject({ inputs: { points: 5, breaklines: [8] } }),
    );
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "They are" }));
    fireEvent.click(await screen.findByRole("option", { name: /soft/ }));
    await waitFor(() =>
      expect(bodies(asked, "/previews").at(-1)).toMatchObject({ params: { breaklines_are: "soft" } }),
    );
    fireEvent.mouseDown(screen.getByRole("combobox", { name: /Breaklines/ }));
    fireEvent.click(screen.getByRole("option", { name: "none" }));
    await waitFor(() => expect(useDesk.getState().sheets.interpolate_points?.inputs.breaklines).toEqual([]));
    fireEvent.click(screen.getByRole("radio", { name: "Nearest" })); // another request, as it is sent now
    await waitFor(() =>
      expect(bodies(asked, "/previews").at(-1)).toMatchObject({ params: { method: "nearest" }, inputs: { points: 5 } }),
    );
    expect((bodies(asked, "/previews").at(-1) as { inputs: object }).inputs).toEqual({ points: 5 });
  });

  it("runs under the typed name and offers the result for a slot", async () => {
    const done = job("j1", { holding_id: 9 });
    let ran = false;
    const asked = service({
      ...base,
      "POST /projects/1/runs": () => {
        ran = true;
        return { job: done, holding_id: null };
      },
      "GET /projects/1/jobs": () => (ran ? [done] : []),
      "GET /projects/1/holdings": () => (ran ? [surface(9, "My TIN"), survey] : [survey]),
    });
    draw(<InterpolatePoints />);
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "My TIN" } });
    await screen.findByText(/million cells/);
    fireEvent.click(screen.getByRole("button", { name: "Run" }));
    fireEvent.click(await screen.findByRole("button", { name: "Put in B" }));
    expect(useDesk.getState().slots.b).toBe("key9");
    expect(bodies(asked, "/runs")[0]).toMatchObject({ name: "My TIN", live: false });
  });

  it("says at once that it starts, and cannot be pressed twice for one surface", async () => {
    const waiting = job("j1", { state: "queued", progress: 0 });
    const asked = service({
      ...base,
      "POST /projects/1/runs": () =>
        new Promise((answer) => setTimeout(() => answer({ job: waiting, holding_id: null }), 300)),
    });
    draw(<InterpolatePoints />);
    await screen.findByText(/million cells/);
    const run = screen.getByRole("button", { name: "Run" }) as HTMLButtonElement;
    fireEvent.click(run);
    await waitFor(() => expect(screen.getByText("Starting")).toBeTruthy(), { timeout: 100 });
    fireEvent.click(run);
    await new Promise((later) => setTimeout(later, 500)); // it was accepted, and is not among the jobs yet
    expect(run.disabled).toBe(true);
    fireEvent.click(run);
    expect(bodies(asked, "/runs").length).toBe(1);
  });

  it("says whose preview lies on the map", async () => {
    service({ ...base, "GET /projects/operations": [{ name: "interpolate_points", title: "Interpolate points" }] });
    draw(<InterpolatePoints />);
    await waitFor(() => expect(useDesk.getState().preview?.of).toBe("interpolate points"));
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "Mine" } });
    await waitFor(() => expect(useDesk.getState().preview?.of).toBe("Mine"));
  });

  it("lets viewers look only", async () => {
    const asked = service(base);
    draw(<InterpolatePoints />, { role: "viewer" });
    expect(await screen.findByText(/only editors and owners run this/)).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Run" })).toBeNull();
    expect(bodies(asked, "/previews")).toEqual([]);
  });

  it("marks what is no number and keeps the last good one", async () => {
    const asked = service(base);
    draw(<InterpolatePoints />);
    await screen.findByText(/million cells/);
    const field = screen.getByLabelText("Reach limit");
    fireEvent.change(field, { target: { value: "sixty" } });
    expect(field.getAttribute("aria-invalid")).toBe("true");
    fireEvent.change(field, { target: { value: "80,5" } });
    await waitFor(() =>
      expect((bodies(asked, "/previews").at(-1) as { params: object }).params).toEqual({ reach_limit: 80.5 }),
    );
  });

  it("takes lakes and an area beside the points, and gives distances", async () => {
    const pond = lines(7, "Ponds", []);
    const ponds = { ...pond, features: { ...pond.features, counts: { polygons: 3 } } } as typeof pond;
    const asked = service({ ...base, "GET /projects/1/holdings": [survey, ponds] });
    draw(<InterpolatePoints />);
    const pick = async (label: string, option: RegExp) => {
      fireEvent.mouseDown(await screen.findByRole("combobox", { name: label }));
      fireEvent.click(await screen.findByRole("option", { name: option }));
    };
    await pick("Lakes", /Ponds/);
    await pick("Area", /Ponds/);
    await pick("Gives", /^Distance/);
    await waitFor(() =>
      expect(bodies(asked, "/previews").at(-1)).toEqual({
        operation: "interpolate_points",
        params: { reach_limit: 60 },
        inputs: { points: 5, lakes: [7], area: [7] },
        output: "distance",
      }),
    );
    await pick("Gives", /^Surface/);
    fireEvent.click(screen.getByLabelText("Whole numbers"));
    expect(useDesk.getState().sheets.interpolate_points?.params.whole).toBe(true);
  });

  it("offers sectors for inverse distance, and standard errors for kriging only", async () => {
    service(base);
    draw(<InterpolatePoints />);
    fireEvent.click(await screen.findByLabelText("Inverse distance"));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Taken from" }));
    fireEvent.click(await screen.findByRole("option", { name: /8 sectors/ }));
    expect(useDesk.getState().sheets.interpolate_points?.params.sectors).toBe(8);
    useDesk.getState().sheet("interpolate_points", { params: { method: "kriging" }, output: "uncertainty" });
    fireEvent.click(await screen.findByLabelText("Spline"));
    expect(useDesk.getState().sheets.interpolate_points).toMatchObject({ params: { method: "spline" }, output: null });
  });
});

describe("smoothing a spline", () => {
  it("shows what each smoothing misses left-out points by, and takes the best on a press", async () => {
    const table = {
      columns: [{ name: "smoothing" }, { name: "rmse" }],
      rows: [
        [0, 5.2],
        [0.01, 5.0],
        [0.1, 4.9],
      ],
      facts: { points: 480, best: 0.1, unit: "m" },
    };
    const asked = service({ ...base, "POST /projects/1/previews": { ...preview, table } });
    draw(<InterpolatePoints />);
    fireEvent.click(await screen.findByLabelText("Spline"));
    await screen.findByRole("group", { name: /by smoothing/ });
    expect(bodies(asked, "/previews")).toContainEqual({
      operation: "spline_smoothing",
      params: { tension: 2 },
      inputs: { points: 5 },
    });
    expect(screen.getByRole("button", { name: /^Smoothing 0.01/ }).getAttribute("aria-pressed")).toBe("true");
    fireEvent.click(screen.getByRole("button", { name: /Take 0.1, the least/ }));
    expect(useDesk.getState().sheets.interpolate_points?.params.smoothing).toBe(0.1);
    fireEvent.click(screen.getByRole("button", { name: /^Smoothing 0:/ }));
    expect(useDesk.getState().sheets.interpolate_points?.params.smoothing).toBe(0);
  });
});

describe("points that are clicked", () => {
  const dots = { count: 2, x: new Float64Array([100, 300]), y: new Float64Array([50, 80]) } as DotPoints;
  it("means the nearest one that is near enough", () => {
    expect(nearestTo(dots, [104, 52], 9)).toEqual([100, 50]);
    expect(nearestTo(dots, [150, 52], 9)).toBeNull();
  });
  it("are left out, and used again by another click", async () => {
    service(base);
    const { client } = draw(<InterpolatePoints />);
    fireEvent.click(await screen.findByLabelText(/by a click on each/));
    expect(inHand().kind).toBe("pick");
    const { grid } = project.frame;
    const south = grid.north - grid.rows * grid.cell_height;
    client.setQueryData(["drawn", 1, 5, grid.crs], dots);
    const click = (x: number) =>
      act(() => {
        const tool = inHand();
        if (tool.kind === "pick") tool.press({ x: grid.west + x, y: south + 51, resolution: 1 });
      });
    click(301 - 200);
    await waitFor(() =>
      expect(useDesk.getState().sheets.interpolate_points?.params.left_out).toEqual([[grid.west + 100, south + 50]]),
    );
    expect(screen.getByRole("button", { name: "Use it again" })).toBeTruthy();
    click(200);
    expect(await screen.findByText("No point lies there.")).toBeTruthy();
    click(100);
    await waitFor(() => expect(useDesk.getState().sheets.interpolate_points?.params.left_out).toEqual([]));
    act(() => void useDesk.getState().leave());
    expect((screen.getByLabelText(/by a click on each/) as HTMLInputElement).checked).toBe(false);
  });
});
