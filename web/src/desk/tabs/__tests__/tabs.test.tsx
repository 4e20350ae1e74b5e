// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { draw, service, surface } from "../../../testing/render";
import { Deleted } from "../../Deleted";
import { useDesk } from "../../store";
import { ReadingsTab } from "../ReadingsTab";
import { RecipeTab } from "../RecipeTab";
import { SurfacesTab } from "../surfaces/SurfacesTab";

afterEach(cleanup);

describe("surfaces in the strip", () => {
  const tin = surface(1, "Survey TIN", { accuracy: { ...blank(), rmse: 4.071, count: 148 } });
  const live = surface(2, "Difference", { live: true });

  function blank() {
    return { count: 0, unused: 0, outliers: 0, reason: "" };
  }

  it("say cell size, kind, empty share and accuracy", async () => {
    service({ "GET /projects/1/holdings": [tin, live] });
    draw(<SurfacesTab />);
    const card = await screen.findByRole("article", { name: "Survey TIN" });
    expect(card.textContent).toContain("2 m");
    expect(card.textContent).toContain("stored");
    expect(card.textContent).toContain("25.0 % empty");
    expect(card.textContent).toContain("rms 4.07 m");
    expect(screen.getByRole("article", { name: "Difference" }).textContent).toContain("not judged");
  });

  it("go into a slot by their buttons, and are known while pointed at", async () => {
    service({ "GET /projects/1/holdings": [tin, live] });
    draw(<SurfacesTab />);
    fireEvent.click(await screen.findByRole("button", { name: "Put Difference in B" }));
    expect(useDesk.getState().slots.b).toBe("key2");
    fireEvent.mouseEnter(screen.getByRole("article", { name: "Survey TIN" }));
    expect(useDesk.getState().hovered).toBe("key1");
  });

  it("offer a file only where there is one, and tell why they cannot be deleted", async () => {
    const sentence = "Difference is computed from it. Store or delete that first.";
    service({
      "GET /projects/1/holdings": [tin, live],
      "GET /projects/1/holdings/1/uses": { blocked: [sentence], loses: [] },
    });
    draw(<SurfacesTab />);
    fireEvent.click(await screen.findByRole("button", { name: "More about Difference" }));
    expect(screen.getByRole("menuitem", { name: "Store surface" })).toBeTruthy();
    expect(screen.queryByRole("menuitem", { name: "Download as GeoTIFF" })).toBeNull();
    fireEvent.keyDown(screen.getByRole("menu"), { key: "Escape" });
    fireEvent.click(screen.getByRole("button", { name: "More about Survey TIN" }));
    fireEvent.click(screen.getByRole("menuitem", { name: "Delete" }));
    expect((await screen.findByRole("dialog")).textContent).toContain(sentence);
    expect(screen.queryByRole("button", { name: "Delete" })).toBeNull();
  });

  it("are deleted at once where nothing depends on them, and after naming what goes where something does", async () => {
    const loses = ["slopes was made from it and cannot be made again without it."];
    const asked = service({
      "GET /projects/1/holdings": [tin, live],
      "GET /projects/1/deleted": [],
      "GET /projects/1/holdings/1/uses": { blocked: [], loses },
      "GET /projects/1/holdings/2/uses": { blocked: [], loses: [] },
      "DELETE /projects/1/holdings/2": {},
      "DELETE /projects/1/holdings/1": {},
    });
    const gone = () => asked.filter((one) => one.method === "DELETE").map((one) => one.path);
    draw(<SurfacesTab />);
    fireEvent.click(await screen.findByRole("button", { name: "More about Difference" }));
    fireEvent.click(screen.getByRole("menuitem", { name: "Delete" }));
    await waitFor(() => expect(gone()).toEqual(["/projects/1/holdings/2"]));
    fireEvent.click(screen.getByRole("button", { name: "More about Survey TIN" }));
    fireEvent.click(screen.getByRole("menuitem", { name: "Delete" }));
    expect((await screen.findByRole("dialog")).textContent).toContain(loses[0]);
    fireEvent.click(screen.getByRole("button", { name: "Delete" }));
    await waitFor(() => expect(gone()).toHaveLength(2));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("can be had back for a week", async () => {
    const one = { id: 9, name: "Old TIN", kind: "surface", deleted_by: "mire", until: "2026-12-06T10:00:00Z" };
    const asked = service({
      "GET /projects/1/deleted": [
        { ...one, deleted_at: new Date().toISOString() },
        { ...one, id: 10, name: "Older TIN", deleted_at: "2026-11-20T10:00:00Z" },
      ],
      "POST /projects/1/deleted/9/restore": { ids: [9], names: ["Old TIN"] },
      "POST /projects/1/deleted/10/restore": { ids: [10], names: ["Older TIN"] },
    });
    draw(<Deleted />);
    expect((await screen.findByRole("status")).textContent).toContain("Old TIN is deleted.");
    fireEvent.click(screen.getByRole("button", { name: "Undo" }));
    fireEvent.click(screen.getByRole("button", { name: /2 deleted/ }));
    expect(screen.getByRole("region", { name: "Deleted" }).textContent).toContain("Older TIN");
    expect(screen.getByRole("region", { name: "Deleted" }).textContent).toContain("until Sunday");
    await waitFor(() => expect(asked.some((one) => one.path.endsWith("/9/restore"))).toBe(true));
    fireEvent.click(screen.getByRole("button", { name: "Restore Older TIN" }));
    await waitFor(() => expect(asked.some((one) => one.path.endsWith("/10/restore"))).toBe(true));
  });

  it("are had back by Ctrl+Z too, unless somebody types or edits lines", async () => {
    const one = { id: 9, name: "Old TIN", kind: "surface", deleted_by: "mire", until: "2026-12-06T10:00:00Z" };
    const asked = service({
      "GET /projects/1/deleted": [{ ...one, deleted_at: new Date().toISOString() }],
      "POST /projects/1/deleted/9/restore": { ids: [9], names: ["Old TIN"] },
    });
    draw(
      <>
        <input aria-label="Field" />
        <Deleted />
      </>,
    );
    await screen.findByRole("status");
    const restored = () => asked.filter((ask) => ask.path.endsWith("/restore")).length;
    fireEvent.keyDown(screen.getByLabelText("Field"), { key: "z", ctrlKey: true });
    act(() => useDesk.getState().take({ kind: "edit", owner: "lines", holding: 4, with: "choose", snap: true }));
    fireEvent.keyDown(document.body, { key: "z", ctrlKey: true });
    act(() => useDesk.getState().drop("lines"));
    fireEvent.keyDown(document.body, { key: "z" });
    fireEvent.keyDown(document.body, { key: "z", ctrlKey: true, shiftKey: true });
    expect(restored()).toBe(0);
    fireEvent.keyDown(document.body, { key: "z", ctrlKey: true });
    await waitFor(() => expect(restored()).toBe(1));
  });

  it("say what to do where there are none", async () => {
    service({ "GET /projects/1/holdings": [] });
    draw(<SurfacesTab />);
    expect(await screen.findByText(/No surface yet/)).toBeTruthy();
  });
});

describe("readings", () => {
  const reading = (a: "height" | "brightness") => ({
    x: 448001,
    y: 5437999,
    longitude: 62.4,
    latitude: -41.2,
    readings: {
      a: { height: 0.5, slope: 3, aspect: 90, source: null },
      b: { height: 120, slope: 1, aspect: 2, source: null },
    },
    names: { a: "one", b: "two" },
    quantities: { a, b: "height" as const },
  });

  it("are subtracted only where both are of one kind", () => {
    service({});
    draw(<ReadingsTab />);
    act(() => useDesk.setState({ pinned: [reading("height"), reading("brightness")] }));
    const rows = screen.getAllByRole("row").map((row) => row.textContent);
    expect(rows[1]).toContain("\u2212119.50 m");
    expect(rows[2]).not.toContain("119.50");
    expect(rows[2]).toContain("0.50 120.00 m");
  });
});

describe("heights and recipe", () => {
  const made = surface(1, "Survey TIN", {
    recipe: {
      operation: "interpolate_points",
      title: "Interpolate points",
      output: "",
      params: { reach_limit: 60 },
      settings: ["reach limit: 60\u202fm"],
      inputs: { points: "Survey points" },
      input_ids: { points: 5 },
    },
  });

  it("lead back to the worksheet with everything filled in", async () => {
    const operations = [{ name: "interpolate_points", stage: "Build", title: "Interpolate points" }];
    service({ "GET /projects/1/holdings": [made], "GET /projects/operations": operations });
    draw(<RecipeTab />);
    act(() => useDesk.setState({ slots: { a: "key1", b: null } }));
    expect(await screen.findByText(/reach limit: 60/)).toBeTruthy();
    fireEvent.click(await screen.findByRole("button", { name: /Run again/ }));
    await waitFor(() => expect(useDesk.getState()).toMatchObject({ stage: "Build", operation: "interpolate_points" }));
    expect(useDesk.getState().sheets.interpolate_points).toEqual({
      params: { reach_limit: 60 },
      inputs: { points: 5 },
      name: "",
      again: 1,
    });
  });
});
