// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Holding } from "../../api/client";
import { useDesk } from "../../desk/store";
import { draw, lines, points, service } from "../../testing/render";
import { ContourSurface } from "../build/ContourSurface";

afterEach(cleanup);

const shaped = (id: number, name: string, counts: Record<string, number>, columns: Record<string, string>) => {
  const held = lines(id, name, []);
  return { ...held, features: { ...held.features, counts, attributes: columns } };
};
const HELD = [
  shaped(3, "Rivers", { lines: 40 }, { kind: "text" }),
  shaped(4, "old_sheet_contours", { lines: 319 }, { elev: "number", sheet: "number" }),
  shaped(5, "Lakes", { polygons: 2 }, { name: "text" }),
  points(6, "Old spots", {}),
];
const FINDING = {
  code: "gaps",
  weight: "caution",
  sentence: "23 contours are broken, by up to 231 m.",
  why: "Between their ends the surface knows less.",
  fix: { label: "Join up to 235 m", set_params: { join_gaps: 235 } },
  places: [[1, 2]],
};
const preview = {
  key: null,
  quantity: "height",
  findings: [FINDING],
  outline: [],
  cells: 100,
  cell_size: 2,
  coarse: false,
  seconds: 1,
  filled: 0.5,
  holding_id: null,
};
const answers = (held: Holding[]) => ({
  "GET /projects/1/holdings": held,
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": preview,
});
const sheet = () => useDesk.getState().sheets.contour_surface;
const pick = async (label: string, option: RegExp) => {
  fireEvent.mouseDown(screen.getByRole("combobox", { name: label }));
  fireEvent.click(await screen.findByRole("option", { name: option }));
};

describe("a surface from contours", () => {
  it("takes the contours by their name, and nothing beside them until it is chosen", async () => {
    const asked = service(answers(HELD));
    draw(<ContourSurface />);
    await waitFor(() => expect(sheet()?.inputs).toEqual({ contours: 4 }));
    await waitFor(() => expect(asked.some((one) => one.path.endsWith("/previews"))).toBe(true));
    expect(asked.findLast((one) => one.path.endsWith("/previews"))?.body).toEqual({
      operation: "contour_surface",
      params: { reach_limit: 200 },
      inputs: { contours: 4 },
    });
    await pick("Streams", /Rivers/);
    await pick("Lakes", /Lakes/);
    await pick("Spots", /Old spots/);
    expect(sheet()?.inputs).toEqual({ contours: 4, streams: [3], lakes: [5], spots: [6] });
    await pick("Lakes", /none/);
    expect(sheet()?.inputs.lakes).toEqual([]);
  });

  it("offers a mend and sets what it asks for", async () => {
    service(answers(HELD));
    draw(<ContourSurface />);
    fireEvent.click(await screen.findByRole("button", { name: "Join up to 235 m" }));
    expect(sheet()?.params.join_gaps).toBe(235);
    expect((screen.getByLabelText("Join ends") as HTMLInputElement).value).toBe("235");
  });

  it("shows each method the settings it uses", async () => {
    service(answers(HELD));
    draw(<ContourSurface />);
    expect(await screen.findByLabelText("Tension")).toBeTruthy();
    expect(screen.queryByLabelText("Edge limit")).toBeNull();
    fireEvent.click(screen.getByLabelText(/Open hollows/));
    expect(sheet()?.params.drained).toBe(false);
    fireEvent.click(screen.getByLabelText("Triangulation"));
    expect(await screen.findByLabelText("Edge limit")).toBeTruthy();
    expect(screen.queryByLabelText("Tension")).toBeNull();
  });

  it("lets the column of heights be chosen, and forgets it with other contours", async () => {
    service(answers(HELD));
    draw(<ContourSurface />);
    await waitFor(() => expect(sheet()?.inputs.contours).toBe(4));
    await pick("Heights", /sheet/);
    expect(sheet()?.params.height_field).toBe("sheet");
    await pick("Contours", /Rivers/);
    expect(sheet()?.params.height_field).toBeNull();
  });

  it("says what to add where there are no lines", async () => {
    service(answers([points(6, "Old spots", {})]));
    draw(<ContourSurface />);
    expect(await screen.findByText(/Add contours in Gather/)).toBeTruthy();
  });
});
