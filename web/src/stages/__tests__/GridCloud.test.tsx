// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { cloud, draw, service } from "../../testing/render";
import { GridCloud } from "../build/GridCloud";

afterEach(cleanup);

const preview = { key: null, quantity: "height", findings: [], outline: [], cells: 100, cell_size: 2, coarse: false };
const answers = () => ({
  "GET /projects/1/holdings": [
    cloud(3, "tile A", { "1": 20, "2": 60, "7": 20 }),
    cloud(4, "tile B", { "2": 40, "5": 60 }),
  ],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": { ...preview, seconds: 1, filled: 0.5, holding_id: null },
});
const params = () => useDesk.getState().sheets.grid_cloud?.params;

describe("gridding clouds", () => {
  it("takes every cloud at first, ground of them, with narrow gaps closed", async () => {
    const asked = service(answers());
    draw(<GridCloud />);
    await screen.findByText("tile A");
    await waitFor(() => expect(useDesk.getState().sheets.grid_cloud?.inputs).toEqual({ clouds: [3, 4] }));
    await waitFor(() => expect(asked.some((one) => one.path.endsWith("/previews"))).toBe(true));
    expect(asked.find((one) => one.path.endsWith("/previews"))?.body).toEqual({
      operation: "grid_cloud",
      params: { gap: 12 },
      inputs: { clouds: [3, 4] },
    });
    expect(screen.getByRole("button", { name: "Bare earth" }).getAttribute("aria-pressed")).toBe("true");
    // 200 points over 200 m², half of them ground
    expect(screen.getByText("one point in 1.41 m")).toBeTruthy();
  });

  it("sets what a want needs from the classes there are, without noise", async () => {
    service(answers());
    draw(<GridCloud />);
    await screen.findByText("tile A");
    fireEvent.click(await screen.findByRole("button", { name: "First surface" }));
    expect(params()).toMatchObject({ classes: [1, 2, 5], returns: "first", rule: "highest", gap: 6 });
    fireEvent.click(screen.getByLabelText("high vegetation"));
    expect(params()?.classes).toEqual([1, 2]);
    expect(screen.getByRole("button", { name: "First surface" }).getAttribute("aria-pressed")).toBe("false");
  });

  it("offers cell sizes as multiples of the spacing, and no gaps for counts", async () => {
    service(answers());
    draw(<GridCloud />);
    await screen.findByText("tile A");
    fireEvent.click(await screen.findByRole("button", { name: /× 2: 2.75 m/ }));
    expect(params()?.cell_size).toBe(2.75);
    expect(screen.getByLabelText("Close gaps")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Point count" }));
    expect(screen.queryByLabelText("Close gaps")).toBeNull();
    expect(params()).toMatchObject({ rule: "count", gap: 0 });
  });

  it("leaves a cloud out", async () => {
    service(answers());
    draw(<GridCloud />);
    fireEvent.click(await screen.findByLabelText(/tile B/));
    await waitFor(() => expect(useDesk.getState().sheets.grid_cloud?.inputs).toEqual({ clouds: [3] }));
  });

  it("says what to do where there is none", async () => {
    service({ "GET /projects/1/holdings": [], "GET /projects/1/jobs": [] });
    draw(<GridCloud />);
    expect(await screen.findByText(/Add LAS or LAZ files in Gather/)).toBeTruthy();
  });
});
