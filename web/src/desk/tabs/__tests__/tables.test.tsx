// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { draw, figures, service } from "../../../testing/render";
import { TablesTab } from "../TablesTab";
import { asText, sorted } from "../tableRows";

afterEach(cleanup);

const held = figures(4, "Which method?");
const table = {
  columns: held.table.columns,
  rows: [
    ["nearest", 3.5],
    ["kriging", 0.25],
    ["spline", null],
  ],
  facts: {},
};
const texts = () =>
  within(screen.getByRole("table"))
    .getAllByRole("row")
    .slice(1)
    .map((row) => row.textContent);

describe("tables in the strip", () => {
  it("are put in order by a column and found by words or a condition", async () => {
    service({ "GET /projects/1/holdings": [held], "GET /projects/1/holdings/4/table": table });
    draw(<TablesTab />);
    expect(await screen.findByText("0.25")).toBeTruthy();
    expect(texts()).toEqual(["nearest3.50 m", "kriging0.25 m", "spline–"]);
    fireEvent.click(screen.getByRole("button", { name: /RMSE/ }));
    expect(texts()).toEqual(["kriging0.25 m", "nearest3.50 m", "spline–"]);
    fireEvent.click(screen.getByRole("button", { name: /RMSE/ }));
    expect(texts()).toEqual(["nearest3.50 m", "kriging0.25 m", "spline–"]);
    fireEvent.change(screen.getByLabelText("Find rows"), { target: { value: "krig" } });
    expect(texts()).toEqual(["kriging0.25 m"]);
    fireEvent.change(screen.getByLabelText("Find rows"), { target: { value: "RMSE > 1" } });
    expect(texts()).toEqual(["nearest3.50 m"]);
    expect(screen.getByRole("link", { name: "Download as CSV" }).getAttribute("href")).toBe(
      "/api/projects/1/holdings/4/csv",
    );
  });

  it("say where they come from when there is none", async () => {
    service({ "GET /projects/1/holdings": [] });
    draw(<TablesTab />);
    expect(await screen.findByText(/No table yet/)).toBeTruthy();
  });

  it("keep what is missing last, and every digit when they are copied", () => {
    expect(sorted([[null], [2], [10]], { column: 0, down: true })).toEqual([[10], [2], [null]]);
    expect(sorted([["b10"], ["b9"]], { column: 0, down: false })).toEqual([["b9"], ["b10"]]);
    expect(asText(table.columns as never, [["kriging", 0.1234567]])).toBe("Method\tRMSE (m)\nkriging\t0.1234567");
  });
});
