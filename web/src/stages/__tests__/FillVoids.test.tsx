// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { type Asked, draw, service, surface } from "../../testing/render";
import { FillVoids } from "../join/FillVoids";

afterEach(cleanup);

const holed = surface(6, "Mosaic", { holes: { count: 3, cells: 400, outside: 12 } });
const whole = surface(7, "Plover 30", { holes: { count: 0, cells: 0, outside: 0 } });
const live = surface(8, "Live one", { live: true });
const preview = {
  key: "filled-key",
  quantity: "height",
  findings: [],
  outline: [],
  cells: 20_971_520,
  cell_size: 2,
  coarse: false,
  seconds: 9,
  filled: 0.9,
  holding_id: null,
};
const base = {
  "GET /projects/1/holdings": [whole, live, holed],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": preview,
};
const last = (asked: Asked[]) => asked.filter((one) => one.path.endsWith("/previews")).at(-1)?.body;

describe("filling holes", () => {
  it("takes the surface that has holes, and tells what stays", async () => {
    const asked = service(base);
    draw(<FillVoids />);
    expect(await screen.findByText("holes of", { exact: false })).toBeTruthy();
    expect(screen.getByText(/empty cells reach the edge/).textContent).toContain("12");
    await waitFor(() => expect(last(asked)).toEqual({ operation: "fill_voids", params: {}, inputs: { surface: 6 } }));
  });

  it("fills from another surface up to a width, and can mark what was filled", async () => {
    const asked = service(base);
    draw(<FillVoids />);
    fireEvent.click(await screen.findByLabelText("Other surface"));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Fill from" }));
    fireEvent.click(await screen.findByRole("option", { name: "Plover 30" }));
    fireEvent.change(screen.getByLabelText("Holes up to"), { target: { value: "600" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Counted in" }));
    fireEvent.click(await screen.findByRole("option", { name: "metres" }));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Gives" }));
    fireEvent.click(await screen.findByRole("option", { name: "Which cells were filled, too" }));
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "fill_voids",
        params: { method: "other", across: 600, across_in: "m" },
        inputs: { surface: 6, other: [7] },
        output: "filled",
      }),
    );
  });

  it("says where nothing is to be filled, and where that is not known", async () => {
    service(base);
    draw(<FillVoids />);
    await screen.findByText(/empty cells reach the edge/);
    useDesk.getState().sheet("fill_voids", { inputs: { surface: 7 } });
    expect(await screen.findByText(/No hole is surrounded by data in Plover 30/)).toBeTruthy();
    useDesk.getState().sheet("fill_voids", { inputs: { surface: 8 } });
    expect(await screen.findByText(/counted when a surface is stored/)).toBeTruthy();
  });

  it("says so where there is no surface", async () => {
    service({ ...base, "GET /projects/1/holdings": [] });
    draw(<FillVoids />);
    expect(await screen.findByText(/No surface yet/)).toBeTruthy();
  });
});
