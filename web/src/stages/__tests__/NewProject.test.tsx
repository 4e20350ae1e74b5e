// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { type Asked, draw, service } from "../../testing/render";
import { NewProject } from "../gather/NewProject";

afterEach(cleanup);

const extent = { name: "tile.tif", crs: "EPSG:32741", bounds: [0, 0, 9, 9], spacing: 0, cell: 2, boundary: false };
const table = {
  file_key: "",
  name: "points.csv",
  layout: {
    separator: ",",
    decimal: ".",
    header: true,
    columns: ["x", "y", "z"],
    x: 0,
    y: 1,
    z: 2,
    code: null,
    encoding: "utf-8",
    thousands: "",
    confidence: {},
  },
  first_rows: [["448000", "5438000", "12"]],
  rows: 1,
  crs: "",
  findings: [],
  dots: [],
};
const proposal = {
  crs: "EPSG:32741",
  crs_title: "",
  cell_size: 2,
  west: 0,
  south: 0,
  east: 10,
  north: 10,
  rows: 5,
  cols: 5,
  reasons: ["because of tile.tif"],
};

describe("a new project", () => {
  it("goes on with the other files where a table does not say its place, and matches its columns right there", async () => {
    const declared = (one: Asked) => JSON.parse(new URLSearchParams(String(one.query)).get("declared") ?? "{}");
    const asked = service({
      "POST /frames/extent": (one: Asked) => {
        const query = new URLSearchParams(String(one.query));
        if (query.get("name") === "tile.tif") return { extent, table: null, reason: "" };
        if (query.get("name") === "plan.pdf")
          return new Response(JSON.stringify({ detail: "plan.pdf is no elevation data." }), { status: 422 });
        const known = declared(one).crs;
        if (known && query.get("look") === "false") return { extent: { ...extent, name: "points.csv" }, table: null };
        return { extent: null, table: { ...table, crs: known ?? "" }, reason: "points.csv does not say its CRS." };
      },
      "POST /frames/propose": proposal,
    });
    draw(<NewProject open={() => undefined} />);
    const files = ["points.csv", "plan.pdf", "tile.tif"].map((name) => new File(["x"], name));
    fireEvent.change(screen.getByLabelText("Files to propose a frame from"), { target: { files } });
    expect(await screen.findByText("because of tile.tif")).toBeTruthy();
    expect(screen.getByText(/plan.pdf is no elevation data/)).toBeTruthy();
    expect(screen.getByText(/points.csv does not say its CRS. Say how it is read/)).toBeTruthy();
    const columns = within(screen.getByRole("region", { name: "Columns of points.csv" }));
    const crs = columns.getByLabelText("CRS");
    fireEvent.change(crs, { target: { value: "EPSG:32741" } });
    fireEvent.blur(crs);
    await waitFor(() => expect(declared(asked.at(-1) as Asked)).toEqual({ crs: "EPSG:32741" }));
    fireEvent.click(screen.getByRole("button", { name: "Place it" }));
    await waitFor(() =>
      expect(
        (asked.at(-1)?.body as { extents: { name: string }[] } | undefined)?.extents.map((one) => one.name),
      ).toEqual(["tile.tif", "points.csv"]),
    );
    expect(screen.queryByText(/Say how it is read/)).toBeNull();
  });
});
