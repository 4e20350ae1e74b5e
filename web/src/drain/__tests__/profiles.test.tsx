// @vitest-environment jsdom
import { cleanup, fireEvent, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { TablesTab } from "../../desk/tabs/TablesTab";
import { draw, figures, service } from "../../testing/render";

afterEach(cleanup);

const held = figures(4, "Beds at crossings");
const column = (name: string, title: string, unit = "") => ({ ...held.table.columns[1], name, title, unit });
const table = {
  columns: [column("crossing", "Crossing"), column("along", "Along the stream", "m"), column("bed", "Bed", "m")],
  rows: [
    [1, -100, 54],
    [1, 0, 51.5],
    [1, 100, 50],
    [2, -40, 12.25],
    [2, 4, 12],
  ],
  facts: {},
};

describe("beds at crossings", () => {
  it("are drawn for each crossing, and for those alone that are found", async () => {
    service({ "GET /projects/1/holdings": [held], "GET /projects/1/holdings/4/table": table });
    draw(<TablesTab />);
    const first = await screen.findByRole("img", { name: "Bed at crossing 1: from 54.0 m to 50.0 m over 200 m" });
    expect(first.querySelectorAll("polyline")).toHaveLength(1);
    const points = first.querySelector("polyline")?.getAttribute("points")?.split(" ") ?? [];
    const heights = points.map((one) => Number(one.split(",")[1]));
    expect(heights).toEqual([...heights].sort((one, other) => one - other)); // it falls
    expect(document.querySelectorAll("figcaption")).toHaveLength(2);
    fireEvent.change(screen.getByLabelText("Find rows"), { target: { value: "Crossing = 2" } });
    expect(screen.getAllByRole("img")).toHaveLength(1);
  });

  it("are not looked for in other tables", async () => {
    const other = { ...table, columns: [...table.columns].reverse() };
    service({ "GET /projects/1/holdings": [held], "GET /projects/1/holdings/4/table": other });
    draw(<TablesTab />);
    await screen.findByRole("table");
    expect(screen.queryAllByRole("img")).toHaveLength(0);
  });
});
