// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import type { SurfaceHolding } from "../../../api/client";
import { draw, job, service, surface } from "../../../testing/render";
import { useDesk } from "../../store";
import { graphOf, laidOut, staleOf } from "../lineage";
import { RecipeTab } from "../RecipeTab";

afterEach(cleanup);

const made = (
  id: number,
  name: string,
  from: Record<string, number | number[]>,
  change: Partial<SurfaceHolding> = {},
) =>
  surface(id, name, {
    uploaded: false,
    recipe: {
      operation: "fit_to_frame",
      title: "Reproject and resample",
      output: "",
      params: { cell_size: 2 },
      settings: ["cell size: 2\u202fm"],
      inputs: Object.fromEntries(Object.keys(from).map((role) => [role, `the ${role}`])),
      input_ids: from,
    },
    ...change,
  });

const tiles = [1, 2, 3, 4, 5].map((id) => surface(id, `Skerry ${id}`, { uploaded: true }));
const mosaic = made(10, "Mosaic", { surfaces: [1, 2, 3, 4, 5] });
const filled = made(11, "Filled", { surface: 10 });
const steep = made(12, "Steepness", { surface: 11 }, { live: true });
const apart = made(13, "Apart", { first: 11, second: 10 });
const all = [...tiles, mosaic, filled, steep, apart];

describe("the graph of what was made from what", () => {
  it("goes back to the files, many of them as one, and on to what was made from it", () => {
    const { nodes, edges } = graphOf(filled, all);
    expect(Object.fromEntries(nodes.map(({ id, depth }) => [id, depth]))).toEqual({
      "11": 0,
      "10": -1,
      "files of 10": -2,
      "12": 1,
      "13": 1,
    });
    expect(edges).toContainEqual(["files of 10", "10"]);
    expect(edges).toContainEqual(["11", "13"]);
  });

  it("puts what went in left of what was made, and nothing on one place", () => {
    for (const of of all) {
      const graph = graphOf(of, all);
      const { at } = laidOut(graph);
      for (const [from, to] of graph.edges) expect(at.get(from)?.[0]).toBeLessThan(at.get(to)?.[0] as number);
      expect(new Set([...at.values()].map(String)).size).toBe(graph.nodes.length);
    }
  });

  it("marks what a newer take or a newer way of computing has put out of date", () => {
    expect(staleOf(all).size).toBe(0);
    const newer = made(14, "Mosaic 2", { surfaces: [1, 2] }, { instead_of: 10 });
    expect([...staleOf([...all, newer])].sort()).toEqual([11, 12, 13]);
    const mended = tiles.map((one) => (one.id === 3 ? { ...one, fixed_by: "Skerry 4" } : one));
    expect(staleOf([...mended, mosaic, filled]).has(11)).toBe(true);
    expect([...staleOf([mosaic, { ...filled, outdated: true }, steep])].sort()).toEqual([11, 12]);
  });
});

describe("the recipe tab", () => {
  const newer = made(14, "Mosaic 2", { surfaces: [1, 2] }, { instead_of: 10 });
  const answers = { "GET /projects/1/holdings": [...all, newer], "GET /projects/1/jobs": [] };

  it("tells what each step did, and looks at another where one presses it", async () => {
    service(answers);
    draw(<RecipeTab />);
    act(() => useDesk.setState({ slots: { a: "key11", b: null } }));
    const graph = await screen.findByRole("group", { name: "What was made from what" });
    expect(within(graph).getByRole("button", { name: /5 files/ })).toBeTruthy();
    expect(screen.getByText(/something it was made from has a newer take/)).toBeTruthy();
    fireEvent.click(within(graph).getByRole("button", { name: /Steepness/ }));
    expect(screen.getByText("cell size: 2 m")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Put in A" }));
    expect(useDesk.getState().slots.a).toBe("key12");
  });

  it("makes everything below again from the newer take, or from another that is chosen", async () => {
    const asked = service({ ...answers, "POST /projects/1/holdings/10/remake": job("j1", { state: "running" }) });
    draw(<RecipeTab />);
    act(() => useDesk.setState({ slots: { a: "key10", b: null } }));
    const select = (await screen.findByLabelText("Taken instead")) as HTMLSelectElement;
    expect(select.value).toBe("14");
    fireEvent.click(screen.getByRole("button", { name: "Remake everything below" }));
    await waitFor(() => expect(asked.find(({ method }) => method === "POST")?.body).toEqual({ instead: 14 }));
    expect((screen.getByRole("button", { name: "Remake everything below" }) as HTMLButtonElement).disabled).toBe(true);
  });
});
