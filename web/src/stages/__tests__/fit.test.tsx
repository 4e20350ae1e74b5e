// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Holding } from "../../api/client";
import { useDesk } from "../../desk/store";
import { drawn, inHand } from "../../testing/desk";
import { type Asked, draw, lines, service, surface } from "../../testing/render";
import { Calculate } from "../fit/Calculate";
import { CellTypeSheet } from "../fit/CellTypeSheet";
import { ChangeHeights } from "../fit/ChangeHeights";
import { ClipSheet } from "../fit/ClipSheet";
import { FitSheet } from "../fit/FitSheet";

afterEach(cleanup);

const first = surface(1, "Survey TIN");
const second = { ...surface(2, "Plover 30"), bounds: [100.4, 200, 300, 400] as [number, number, number, number] };
const lakes = lines(9, "Lakes", []);
const water = { ...lakes, features: { ...lakes.features, counts: { polygons: 2 } } };
const preview = {
  key: "key",
  quantity: "height",
  findings: [] as unknown[],
  outline: [],
  cells: 100,
  cell_size: 2,
  coarse: false,
  seconds: 1,
  filled: 1,
  holding_id: null,
};
const base = {
  "GET /projects/1/holdings": [first, second, water],
  "GET /projects/1/jobs": [],
  "POST /projects/1/previews": preview,
};
const last = (asked: Asked[]) => asked.filter((one) => one.path.endsWith("/previews")).at(-1)?.body;
const choose = async (label: string, option: string | RegExp) => {
  fireEvent.mouseDown(await screen.findByRole("combobox", { name: label }));
  fireEvent.click(await screen.findByRole("option", { name: option }));
};

describe("calculating", () => {
  it("names surfaces by letters and puts pieces in where the writing stands", async () => {
    const asked = service(base);
    draw(<Calculate />);
    await waitFor(() => expect(last(asked)).toEqual({ operation: "calculate", params: {}, inputs: { surfaces: [1] } }));
    fireEvent.click(screen.getByRole("button", { name: "One more surface" }));
    expect(screen.getByRole("combobox", { name: "b" }).textContent).toBe("Plover 30");
    const field = screen.getByLabelText("Expression") as HTMLTextAreaElement;
    fireEvent.change(field, { target: { value: "2 * " } });
    field.setSelectionRange(4, 4);
    fireEvent.click(screen.getByRole("button", { name: "max" }));
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "calculate",
        params: { expression: "2 * max(a, b)" },
        inputs: { surfaces: [1, 2] },
      }),
    );
    fireEvent.click(screen.getByRole("button", { name: "Leave out a" }));
    await waitFor(() => expect(last(asked)).toMatchObject({ inputs: { surfaces: [2] } }));
  });

  it("marks the place of a mistake", async () => {
    const wrong = {
      code: "expression",
      weight: "stop",
      sentence: "There is no surface 'c'; there are a, b, at column 5.",
      why: "",
      fix: null,
      places: [],
    };
    service({ ...base, "POST /projects/1/previews": { ...preview, key: null, findings: [wrong] } });
    draw(<Calculate />);
    fireEvent.change(await screen.findByLabelText("Expression"), { target: { value: "a + c * 2" } });
    const alert = await screen.findByRole("alert");
    expect(alert.textContent).toContain("at column 5");
    expect(alert.querySelector("mark")?.textContent).toBe("c");
    expect((screen.getByRole("button", { name: "Run" }) as HTMLButtonElement).disabled).toBe(true);
  });
});

describe("letters of surfaces", () => {
  it("stay when another surface is left out, and a free one goes to the next", async () => {
    const asked = service(base);
    draw(<Calculate />);
    fireEvent.click(await screen.findByRole("button", { name: "One more surface" }));
    fireEvent.click(screen.getByRole("button", { name: "Leave out a" }));
    expect(screen.getByRole("combobox", { name: "b" }).textContent).toBe("Plover 30");
    await waitFor(() =>
      expect(last(asked)).toEqual({ operation: "calculate", params: { names: ["b"] }, inputs: { surfaces: [2] } }),
    );
    fireEvent.click(screen.getByRole("button", { name: "One more surface" }));
    expect(screen.getByRole("combobox", { name: "a" }).textContent).toBe("Survey TIN");
  });
});

describe("reprojecting and cutting in one step", () => {
  it("takes the rectangle that is drawn, instead of polygons", async () => {
    const asked = service(base);
    draw(<FitSheet />);
    await choose("Area", "Lakes");
    await waitFor(() => expect(last(asked)).toMatchObject({ inputs: { area: [9] } }));
    fireEvent.click(screen.getByRole("button", { name: "Draw it" }));
    act(() =>
      drawn([
        [10.2, 20],
        [90, 25],
        [50, 70],
      ]),
    );
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "fit_to_frame",
        params: { bounds: [10, 20, 90, 70] },
        inputs: { surface: 1 },
      }),
    );
    fireEvent.click(screen.getByRole("button", { name: "Not only there" }));
    await waitFor(() => expect(last(asked)).toMatchObject({ params: {} }));
  });
});

describe("changing heights", () => {
  it("asks for units, a geoid with its sign, an offset and a name for zero", async () => {
    const asked = service(base);
    draw(<ChangeHeights />);
    await choose("Its heights", "international feet");
    await choose("Geoid", "Plover 30");
    await choose("It is", /added/);
    fireEvent.change(screen.getByLabelText("Raised by"), { target: { value: "1.5" } });
    fireEvent.change(screen.getByLabelText("Zero means"), { target: { value: "ellipsoid" } });
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "change_heights",
        params: { from_unit: "ft", geoid: "add", offset: 1.5, vertical_datum: "ellipsoid" },
        inputs: { surface: 1, geoid: [2] },
      }),
    );
    await choose("Its heights", /as declared/);
    await waitFor(() => expect(last(asked)).not.toMatchObject({ params: { from_unit: "ft" } }));
  });
});

describe("clipping", () => {
  it("offers heights only, since what comes out counts as heights", async () => {
    const slope = surface(3, "Slope");
    const steep = { ...slope, surface: { ...(slope.surface as NonNullable<Holding["surface"]>), quantity: "slope" } };
    service({ ...base, "GET /projects/1/holdings": [steep, first] });
    draw(<ClipSheet />);
    await waitFor(() => expect(screen.getByRole("combobox", { name: "Surface" }).textContent).toBe("Survey TIN"));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Surface" }));
    expect((await screen.findAllByRole("option")).map((one) => one.textContent)).toEqual(["Survey TIN"]);
  });

  it("keeps polygons with a value, with a margin, or what is outside of them", async () => {
    const asked = service(base);
    draw(<ClipSheet />);
    await choose("Polygons", "Lakes");
    fireEvent.change(await screen.findByLabelText("Only where"), { target: { value: "name contains water" } });
    fireEvent.change(screen.getByLabelText("Margin"), { target: { value: "20" } });
    await choose("Keep", /^outside/);
    fireEvent.click(screen.getByLabelText(/edge runs through/));
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "clip",
        params: { where: "name contains water", margin: 20, keep: "outside", touched: true },
        inputs: { surface: 1, area: [9] },
      }),
    );
  });

  it("offers the values that a column has", async () => {
    const rows = ["Lantern Water", "Sill Tarn", "Lantern Water"].map((name, id) => ({
      type: "Feature",
      id,
      properties: { name },
      geometry: null,
    }));
    service({ ...base, "GET /projects/1/holdings/9/features": { type: "FeatureCollection", features: rows } });
    draw(<ClipSheet />);
    await choose("Polygons", "Lakes");
    await choose("or by", "name");
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: "that is" }));
    await screen.findByRole("option", { name: "Lantern Water, 2" });
    fireEvent.click(screen.getByRole("option", { name: "Sill Tarn, 1" }));
    expect((screen.getByLabelText("Only where") as HTMLInputElement).value).toBe('"name" = "Sill Tarn"');
    expect(screen.getByText("1", { selector: "[role=status] .n" })).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Only where"), { target: { value: "depth > 3" } });
    expect(screen.getByText(/There is no column depth/)).toBeTruthy();
  });

  it("takes a rectangle from the map, from the view, or typed, and forgets polygons chosen before", async () => {
    const asked = service(base);
    draw(<ClipSheet />);
    await choose("Polygons", "Lakes");
    await waitFor(() => expect(last(asked)).toMatchObject({ inputs: { area: [9] } }));
    await screen.findByRole("button", { name: "Draw it" });
    fireEvent.click(screen.getByRole("button", { name: "Draw it" }));
    expect(inHand().kind).toBe("area");
    act(() =>
      drawn([
        [10.2, 20],
        [90, 25],
        [50, 70],
      ]),
    );
    await waitFor(() => expect(last(asked)).toMatchObject({ params: { bounds: [10, 20, 90, 70], keep: "rectangle" } }));
    expect((last(asked) as { inputs: object }).inputs).toEqual({ surface: 1 });
    await choose("Extent of", "Plover 30");
    await waitFor(() => expect(last(asked)).toMatchObject({ params: { bounds: [100, 200, 300, 400] } }));
    fireEvent.change(screen.getByLabelText("East"), { target: { value: "80" } });
    await waitFor(() => expect((last(asked) as { params: { bounds: number[] } }).params.bounds[2]).toBe(80));
    act(() => useDesk.getState().set({ bounds: [1.4, 2, 3, 4] }));
    fireEvent.click(await screen.findByRole("button", { name: "This view" }));
    await waitFor(() => expect(last(asked)).toMatchObject({ params: { bounds: [1, 2, 3, 4] } }));
    fireEvent.click(screen.getByRole("button", { name: "Polygons instead" }));
    await waitFor(() => expect(useDesk.getState().sheets.clip?.params).toMatchObject({ bounds: null, keep: null }));
  });
});

describe("fitting to the frame", () => {
  it("asks for a way of reading and a cell size, and says what a cell is now", async () => {
    const asked = service({
      ...base,
      "GET /projects/1/holdings": [
        { ...first, surface: { ...first.surface, cell_size: 27, crs: "EPSG:4326", on_frame: false } },
      ],
    });
    draw(<FitSheet />);
    expect(await screen.findByText("EPSG:4326")).toBeTruthy();
    await choose("Read", /^cubic,/);
    fireEvent.change(screen.getByLabelText("Cell size"), { target: { value: "10" } });
    fireEvent.click(screen.getByLabelText(/grid ends where the surface ends/));
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "fit_to_frame",
        params: { resampling: "cubic", cell_size: 10, trim: false },
        inputs: { surface: 1 },
      }),
    );
    expect(screen.getByPlaceholderText("Survey TIN at 10 m")).toBeTruthy();
  });
});

describe("setting the cell type", () => {
  it("asks for a type, a step and a value for empty, and takes a mend", async () => {
    const range = {
      code: "range",
      weight: "stop",
      sentence: "int16 in steps of 0.1 m holds -3276.8 to 3276.7 m; the heights run to 4500.",
      why: "",
      fix: { label: "Take 0.2 m", set_params: { step: 0.2 } },
      places: [],
    };
    const asked = service({ ...base, "POST /projects/1/previews": { ...preview, key: null, findings: [range] } });
    draw(<CellTypeSheet />);
    fireEvent.click(await screen.findByRole("button", { name: "Take 0.2 m" }));
    fireEvent.change(screen.getByLabelText("Empty is"), { target: { value: "-9999" } });
    await waitFor(() =>
      expect(last(asked)).toEqual({
        operation: "cell_type",
        params: { step: 0.2, nodata: -9999 },
        inputs: { surface: 1 },
      }),
    );
    await choose("Cells", /decimals/);
    await waitFor(() => expect(last(asked)).toMatchObject({ params: { cell_type: "float32" } }));
    expect(screen.queryByLabelText("Step")).toBeNull();
    expect((screen.getByLabelText("Empty is") as HTMLInputElement).placeholder).toBe("NaN");
  });
});
