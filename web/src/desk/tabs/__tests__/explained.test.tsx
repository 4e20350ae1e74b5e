// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Explained } from "../../../api/client";
import { draw, job, service } from "../../../testing/render";
import { type Pinned, useDesk } from "../../store";
import { ReadingsTab } from "../ReadingsTab";

afterEach(cleanup);

const nothing = { holding: null, unit: "m", change: null, weight: null, uncertainty: null, remark: "" };
const TOLD: Explained = {
  holding: 5,
  name: "Best of all",
  x: 1,
  y: 2,
  lines: [
    {
      ...nothing,
      depth: 0,
      name: "Best of all",
      kind: "surface",
      operation: "Best of all",
      said: "",
      height: 140.26,
      uncertainty: 0.2,
    },
    {
      ...nothing,
      depth: 1,
      name: "Lidar ground",
      kind: "surface",
      operation: "Grid a point cloud",
      said: "mean",
      height: 140.2,
      weight: 0.62,
    },
    { ...nothing, depth: 2, name: "Avel", kind: "cloud", operation: "", said: "avel.laz", height: null },
    { ...nothing, depth: 1, name: "Pond", kind: "patch", operation: "raise", said: "", height: 143.2, change: 3 },
  ],
};
const PINNED: Pinned = {
  x: 1,
  y: 2,
  longitude: 62,
  latitude: -41,
  readings: { a: { height: 140.26, slope: 1, aspect: 90, source: null } },
  names: { a: "Best of all" },
  quantities: { a: "height" },
  ids: { a: 5 },
};

const shown = (answers: Record<string, unknown> = {}, role = "editor") => {
  const asked = service({
    "POST /projects/1/holdings/5/explain": { job: job("j", { state: "queued" }) },
    "GET /projects/1/jobs": [job("j", { kind: "explain", state: "done" })],
    "GET /projects/1/explained/j": TOLD,
    ...answers,
  });
  draw(<ReadingsTab />, { role: role as "editor" });
  useDesk.setState({ pinned: [PINNED] });
  return asked;
};
const why = () => screen.findByRole("button", { name: "Where does reading 1 of A come from?" });

describe("where a height comes from", () => {
  it("is told line by line down to the files", async () => {
    const asked = shown();
    fireEvent.click(await why());
    const table = await screen.findByRole("table", { name: "Where it comes from" });
    const rows = within(table)
      .getAllByRole("row")
      .slice(1)
      .map((one) => one.textContent);
    expect(rows[0]).toContain("140.26 m± 0.20 mBest of all");
    expect(rows[1]).toContain("62 %140.20 m");
    expect(rows[1]).toContain("Grid a point cloud: mean");
    expect(rows[2]).toContain("point cloudavel.laz");
    expect(rows[3]).toContain("143.20 m+3.00 m");
    expect(asked.find((one) => one.method === "POST")?.body).toEqual({ x: 1, y: 2 });
    fireEvent.click(screen.getByRole("button", { name: "Back to the readings" }));
    expect(await why()).toBeTruthy();
  });

  it("says why it is not known, with a way to try again", async () => {
    shown({
      "GET /projects/1/jobs": [job("j", { state: "failed", message: "The surface is no longer in the project." })],
    });
    fireEvent.click(await why());
    expect(await screen.findByText(/no longer in the project/)).toBeTruthy();
    expect(screen.getByRole("button", { name: "Try again" })).toBeTruthy();
  });

  it("is not asked by viewers, nor of what is only looked at", async () => {
    shown({}, "viewer");
    expect(await screen.findByRole("table")).toBeTruthy();
    expect(screen.queryByRole("button", { name: /come from/ })).toBeNull();
    cleanup();
    shown();
    useDesk.setState({ pinned: [{ ...PINNED, ids: {} }] });
    expect(await screen.findByRole("table")).toBeTruthy();
    expect(screen.queryByRole("button", { name: /come from/ })).toBeNull();
  });
});
