// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { usualDress } from "../../map/dress";
import { contourMark } from "../../map/marks";
import { shownOver } from "../../testing/desk";
import { type Asked, draw, lines, service, surface } from "../../testing/render";
import { ContoursSheet } from "../deliver/ContoursSheet";

afterEach(cleanup);

const preview = {
  key: null,
  quantity: "height",
  findings: [],
  outline: [],
  cells: 1,
  cell_size: 2,
  coarse: false,
  seconds: 1,
  filled: 0,
  holding_id: null,
  figures: null,
};
const seen = [
  { figure: 100, index: true, places: [448_000, 5_438_000, 448_100, 5_438_050] },
  { figure: 120, index: false, places: [448_000, 5_438_100, 448_100, 5_438_150] },
];
const base = {
  "GET /projects/1/holdings": [surface(1, "Lidar ground")],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": preview,
  "POST /projects/1/lines": seen,
};
const last = (asked: Asked[], path: string) => asked.filter((one) => one.path.endsWith(path)).at(-1)?.body;
const open = (answers = {}) => {
  const asked = service({ ...base, ...answers });
  draw(<ContoursSheet />);
  act(() => useDesk.getState().set({ bounds: [447_000, 5_437_000, 449_000, 5_439_000] }));
  return asked;
};

describe("contours", () => {
  it("are drawn in the view while they are chosen, in their unit", async () => {
    const asked = open();
    expect(await screen.findByText("2 lines")).toBeTruthy();
    expect(shownOver("contours")).toEqual({ lines: seen, unit: "m" });
    expect(last(asked, "/lines")).toEqual({
      run: { operation: "contours", params: {}, inputs: { surface: 1 } },
      bounds: [447_000, 5_437_000, 449_000, 5_439_000],
    });
    fireEvent.change(screen.getByLabelText("Every"), { target: { value: "50" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "In" }));
    fireEvent.click(await screen.findByRole("option", { name: "international feet" }));
    expect(screen.getByText("Every 250 ft a line is heavier and bears its height.")).toBeTruthy();
    await waitFor(() => expect(last(asked, "/lines")).toMatchObject({ run: { params: { interval: 50, unit: "ft" } } }));
    expect(shownOver("contours")?.unit).toBe("ft");
    fireEvent.click(screen.getByRole("switch"));
    expect(shownOver("contours")).toBeUndefined();
    cleanup();
    expect(shownOver("contours")).toBeUndefined();
  });

  it("lie at heights of one's own where they are listed", async () => {
    const asked = open();
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: "Lines at" }));
    fireEvent.click(await screen.findByRole("option", { name: "heights of my own" }));
    const field = screen.getByLabelText("Heights");
    fireEvent.change(field, { target: { value: "12.5 60; " } });
    await waitFor(() => expect(last(asked, "/previews")).toMatchObject({ params: { levels: [12.5, 60] } }));
    fireEvent.change(field, { target: { value: "12.5 x" } });
    expect(field.getAttribute("aria-invalid")).toBe("true");
    expect(screen.getByText(/Each line is heavier/)).toBeTruthy();
  });

  it("are not drawn where a finding stops them, and its mend is a press away", async () => {
    const stop = {
      code: "levels",
      weight: "stop",
      sentence: "An interval of 0.01 m makes 61 000 heights.",
      why: "",
      fix: { label: "Take 50 m", set_params: { interval: 50 } },
      places: [],
    };
    const asked = open({ "POST /projects/1/previews": { ...preview, findings: [stop] } });
    fireEvent.click(await screen.findByRole("button", { name: "Take 50 m" }));
    expect(asked.some(({ path }) => path.endsWith("/lines"))).toBe(false);
    expect((screen.getByRole("button", { name: "Run" }) as HTMLButtonElement).disabled).toBe(true);
    expect(useDesk.getState().sheets.contours?.params.interval).toBe(50);
  });

  it("are kept as lines, whose dress is at hand", async () => {
    const made = {
      ...lines(7, "Lidar ground, 20 m contours", ["a", "b"]),
      recipe: { operation: "contours", params: { unit: "us-ft" } } as never,
    };
    const job = {
      id: "c1",
      kind: "run",
      state: "done",
      progress: 1,
      title: "",
      message: "",
      findings: [],
      holding_id: 7,
    };
    const asked = open({
      "GET /projects/1/holdings": [surface(1, "Lidar ground"), made],
      "GET /projects/1/jobs": [job],
      "POST /projects/1/runs": { job, holding_id: null },
    });
    await screen.findByText("2 lines");
    fireEvent.click(screen.getByRole("button", { name: "Run" }));
    fireEvent.click(await screen.findByRole("button", { name: "Dress them" }));
    expect(useDesk.getState()).toMatchObject({ tab: "lines", dressing: 7 });
    expect(last(asked, "/runs")).toMatchObject({ operation: "contours", name: "Lidar ground, 20 m contours" });
  });

  it("bear their heights on index lines, in feet where they are of feet", () => {
    expect(contourMark(150, true, "ft").getText()?.getText()).toBe("150\u202fft");
    expect(contourMark(150, false, "ft").getText()).toBeNull();
    const holding = lines(7, "x", ["a"]);
    const of = (attributes: Record<string, string>, units: Record<string, string>) =>
      usualDress({ ...holding, features: { ...holding.features, attributes, units } as never });
    expect(of({ height: "number", kind: "text" }, { height: "us-ft" })).toMatchObject({ label: "height", unit: "ft" });
    expect(of({ name: "text", ELEV_FT: "number" }, { ELEV_FT: "m" })).toMatchObject({ label: "ELEV_FT", unit: "m" });
    expect(of({ height: "number" }, {})).toMatchObject({ label: "height", unit: "" }); // of a unit nobody knows
  });
});
