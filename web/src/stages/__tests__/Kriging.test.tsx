// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { draw, points, service } from "../../testing/render";
import { Kriging } from "../build/Kriging";
import { alike, type Model, valueAt } from "../build/VariogramChart";
import { useWorksheet } from "../useWorksheet";

afterEach(cleanup);

const fitted = { nugget: 2, sill: 90, range: 120 };
const found = {
  columns: ["distance", "semivariance", "pairs"].map((name) => ({
    name,
    title: name,
    unit: "",
    type: "number",
    decimals: null,
  })),
  rows: [
    [10, 12, 40],
    [50, 60, 300],
    [150, 92, 900],
  ],
  facts: { fitted: { spherical: fitted, exponential: { ...fitted, range: 150 }, gaussian: fitted, matern: fitted } },
};
const latest = () => useDesk.getState().sheets.interpolate_points?.params ?? {};

function Held() {
  return <Kriging work={useWorksheet("interpolate_points")} points={points(5, "Survey points", { ground: 90 })} />;
}
const open = async () => {
  const asked = service({ "POST /projects/1/previews": { table: found } });
  draw(<Held />);
  act(() => useDesk.getState().sheet("interpolate_points", { params: { method: "kriging" } }));
  await screen.findByRole("group", { name: "Variogram" });
  return asked;
};

describe("the models of a variogram", () => {
  it.each<[Model, number]>([
    ["spherical", 0],
    ["exponential", 0.0498],
    ["gaussian", 0.0498],
    ["matern", 0.05],
  ])("%s has risen at its range", (model, left) => {
    expect(alike(model, 0)).toBe(1);
    expect(alike(model, 1)).toBeCloseTo(left, 3);
    expect(valueAt(model, fitted, 1e-9)).toBeCloseTo(2, 4);
    expect(valueAt(model, fitted, 1e5)).toBeCloseTo(92, 4);
  });
});

describe("kriging's settings", () => {
  it("show what was fitted until something else is given", async () => {
    await open();
    expect(screen.getByLabelText("Range").getAttribute("placeholder")).toBe("120, fitted");
    expect(screen.queryByRole("button", { name: "Back to the fitted model" })).toBeNull();
    fireEvent.change(screen.getByLabelText("Sill"), { target: { value: "70" } });
    expect(latest().sill).toBe(70);
    expect(screen.getByRole("slider", { name: "Range and sill" }).getAttribute("aria-valuetext")).toContain("sill 70");
    fireEvent.click(screen.getByRole("button", { name: "Back to the fitted model" }));
    expect(latest()).toMatchObject({ sill: null, nugget: null, range: null });
  });

  it("move with the knobs by arrow keys, and the total stays when the nugget moves", async () => {
    await open();
    fireEvent.keyDown(screen.getByRole("slider", { name: "Range and sill" }), { key: "ArrowRight" });
    expect(latest().range as number).toBeGreaterThan(120);
    fireEvent.keyDown(screen.getByRole("slider", { name: "Nugget" }), { key: "ArrowUp" });
    expect(latest().nugget as number).toBeGreaterThan(2);
    expect((latest().nugget as number) + (latest().sill as number)).toBeCloseTo(92, 0);
  });

  it("forget what was given when another model is chosen", async () => {
    await open();
    fireEvent.change(screen.getByRole("textbox", { name: "Nugget" }), { target: { value: "9" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: /Variogram/ }));
    fireEvent.click(screen.getByRole("option", { name: "exponential" }));
    expect(latest()).toMatchObject({ variogram: "exponential", nugget: null });
    await waitFor(() => expect(screen.getByLabelText("Range").getAttribute("placeholder")).toBe("150, fitted"));
  });
});
