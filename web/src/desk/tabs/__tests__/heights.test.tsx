// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import type { Distribution } from "../../../api/client";
import { drawn, inHand } from "../../../testing/desk";
import { type Asked, draw, job, lines, service, surface } from "../../../testing/render";
import { useDesk } from "../../store";
import { HeightsTab } from "../HeightsTab";
import { spanOf, valueAt, xOf } from "../heightsDrawn";

afterEach(cleanup);

const figures = (mean: number): Distribution => ({
  cell: 8,
  cells: 1000,
  empty: 100,
  lowest: mean - 10,
  highest: mean + 30,
  mean,
  deviation: 4,
  skew: 1.25,
  nmad: 3,
  quantiles: [mean - 9, mean - 5, mean - 2, mean - 1, mean + 2, mean + 9, mean + 20],
  first: mean - 10,
  last: mean + 30,
  counts: Array(64).fill(14),
  below: { cells: 400, area: 25_600, volume: 51.25 },
  between: { cells: 300, area: 2_500_000, volume: 4_000_000 },
  above: { cells: 200, area: 12_800, volume: 9_000 },
});

const lakes = lines(9, "Lakes", ["Lantern Water"]);
const held = [
  surface(1, "Lidar"),
  surface(2, "Plover 30"),
  { ...lakes, features: { ...(lakes.features as NonNullable<typeof lakes.features>), counts: { polygons: 1 } } },
];
const both = { a: figures(100), b: figures(104), minus: figures(-4) };
const asks = (asked: Asked[]) => asked.filter(({ path }) => path.endsWith("/heights")).at(-1)?.body;

async function shown(answer: unknown = both, more: Record<string, unknown> = {}) {
  const asked = service({ "GET /projects/1/holdings": held, "POST /projects/1/heights": answer, ...more });
  draw(<HeightsTab />);
  act(() => useDesk.setState({ slots: { a: "key1", b: "key2" }, bounds: [0.4, 0, 100, 100] }));
  return asked;
}

describe("the chart of heights", () => {
  it("spans all histograms and the levels, and turns places into values and back", () => {
    const bars = [{ name: "A" as const, colour: "", of: figures(100) }];
    const span = spanOf(bars, [50, 110]);
    expect(span[0]).toBeLessThan(50);
    expect(span[1]).toBeGreaterThan(130);
    expect(valueAt(xOf(77, span, 640), span, 640)).toBeCloseTo(77);
    expect(spanOf([{ name: "A", colour: "", of: { ...figures(1), mean: null } }], null)).toEqual([0, 1]);
  });
});

describe("heights", () => {
  it("say how A, B and A − B are distributed over the view", async () => {
    const asked = await shown();
    expect(await screen.findAllByText("100.00")).toBeTruthy();
    const table = screen.getByRole("table", { name: "Heights" });
    const row = within(table).getAllByRole("row")[1];
    expect([...(row?.querySelectorAll("td") ?? [])].map((one) => one.textContent?.trim())).toEqual([
      "A",
      "90.00 m",
      "95.00 m",
      "99.00 m",
      "100.00 m",
      "109.00 m",
      "130.00 m",
      "4.00 m",
      "3.00 m",
      "1.25",
      "10.0 %",
    ]);
    expect(within(table).getByText("A − B")).toBeTruthy();
    expect(asks(asked)).toMatchObject({ a: "key1", b: "key2", bounds: [0, 0, 100, 100], ring: null, area: null });
  });

  it("are told over polygons, over all, or where somebody draws", async () => {
    const asked = await shown();
    const area = await screen.findByLabelText("Area");
    fireEvent.change(area, { target: { value: "9" } });
    await waitFor(() => expect(asks(asked)).toMatchObject({ bounds: null, area: 9 }));
    fireEvent.change(area, { target: { value: "all" } });
    await waitFor(() => expect(asks(asked)).toMatchObject({ bounds: null, area: null }));
    fireEvent.change(area, { target: { value: "draw" } });
    expect(inHand().kind).toBe("area");
    act(() =>
      drawn([
        [0, 0],
        [9, 0],
        [9, 9],
      ]),
    );
    await waitFor(() =>
      expect(asks(asked)).toMatchObject({
        ring: [
          [0, 0],
          [9, 0],
          [9, 9],
        ],
      }),
    );
    expect(inHand().kind).toBe("read");
  });

  it("have areas and volumes about levels that start somewhere useful, and the map shows them", async () => {
    const asked = await shown();
    fireEvent.click(await screen.findByLabelText("Areas and volumes"));
    await waitFor(() => expect(useDesk.getState().levels).toEqual([100, 120]));
    const table = await screen.findByRole("table", { name: "Areas and volumes" });
    expect(within(table).getAllByRole("row")[1]?.textContent).toBe(
      "A26 thousand m²51.3 m³2.50 km²4.0 million m³13 thousand m²9\u00a0000 m³",
    );
    fireEvent.change(screen.getByLabelText("Lower level"), { target: { value: "140" } });
    await waitFor(() => expect(asks(asked)).toMatchObject({ levels: [140, 140] }));
    fireEvent.click(screen.getByLabelText("A − B"));
    expect(screen.getByText("fill: above")).toBeTruthy();
    await waitFor(() => expect(useDesk.getState().levels).toBeNull());
    fireEvent.change(screen.getByLabelText("Upper level"), { target: { value: "0.5" } });
    await waitFor(() => expect(asks(asked)).toMatchObject({ about: [0, 0.5], levels: [140, 140] }));
  });

  it("are measured on every cell as a job, and look it up", async () => {
    const exact = { ...both, a: { ...figures(200), cell: 2 } };
    const asked = await shown(both, {
      "POST /projects/1/runs": { job: job("j1", { state: "done", holding_id: 8 }), holding_id: null },
      "GET /projects/1/jobs": [job("j1", { holding_id: 8 })],
      "GET /projects/1/holdings/8/table": { columns: [], rows: [], facts: exact },
    });
    fireEvent.click(await screen.findByText("Measure on every cell"));
    expect(await screen.findByText("200.00")).toBeTruthy();
    expect(screen.queryByText("Measure on every cell")).toBeNull();
    expect(asked.find(({ path }) => path.endsWith("/runs"))?.body).toMatchObject({
      operation: "heights",
      params: { bounds: [0, 0, 100, 100], about: [0, 0] },
      inputs: { first: 1, second: 2 },
    });
  });

  it("say where there is nothing, and why there is none", async () => {
    const none = { ...figures(0), mean: null, lowest: null, highest: null, quantiles: [] };
    await shown({ a: none, b: null, minus: null });
    expect(await screen.findByText("No cell of it has a height there.")).toBeTruthy();
  });
});
