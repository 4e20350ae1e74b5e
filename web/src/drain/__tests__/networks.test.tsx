// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { Network, NetworkFigures } from "../../api/client";
import { useDesk } from "../../desk/store";
import { type Asked, draw, lines, service, surface } from "../../testing/render";
import { NetworksTab } from "../NetworksTab";
import { useDrainState } from "../state";
import { WaterProbe } from "../WaterProbe";

afterEach(cleanup);

const network = (surface: number, change: Partial<Network> = {}): Network => ({
  surface,
  kept: null,
  method: "lesser",
  most_depth: null,
  most_area: null,
  most_length: null,
  sea: null,
  burned: null,
  bed_width: 4,
  bed_depth: 1,
  bed_bank: 4,
  waters_at: [],
  begins_at: 12,
  heads: "area",
  minimum_length: 0,
  over_level: true,
  ...change,
});
const figures = (found: number): NetworkFigures => ({
  known: true,
  begins_at: 12,
  count: 107,
  length: 69_100,
  density: 3.2,
  unsure_length: 0,
  orders: [
    { order: 1, count: 107, length: 39_000 },
    { order: 2, count: 40, length: 30_100 },
  ],
  found,
  own_near: 0.97,
  mean: 5.4,
  catchment: 6.4,
  reason: "",
});
const rivers = {
  ...lines(9, "Rivers", ["Avel"]),
  features: { ...lines(9, "Rivers", ["Avel"]).features, counts: { lines: 3 } },
};

beforeEach(() => {
  useDrainState.setState({
    outlets: [{ name: "Pell Harbour", x: 1, y: 2 }],
    snap: 50,
    reference: undefined,
    within: 20,
    looked: [
      { slot: "a", content: network(5) },
      { slot: "b", content: network(6) },
    ],
    beside: null,
  });
  useDesk.setState({ sheets: {} });
});

function shown(kept: { id: number; content: Network }[], answers: Record<string, unknown> = {}, role?: "viewer") {
  const asked = service({
    "GET /projects/1/holdings": [surface(5, "Best of all"), surface(6, "Beacon 30"), rivers],
    "GET /projects/1/drainage/networks": kept,
    "POST /projects/1/drainage/figures": ({ body }: Asked) => figures((body as Network).surface === 5 ? 0.94 : 0.76),
    "POST /projects/1/drainage/networks": ({ body }: Asked) => ({ id: 3, content: body }),
    "DELETE /projects/1/drainage/networks/2": () => new Response(null, { status: 204 }),
    ...answers,
  });
  draw(<NetworksTab />, role ? { role } : undefined);
  return asked;
}
const rows = () =>
  within(screen.getByRole("table", { name: "Networks" }))
    .getAllByRole("row")
    .slice(1);

describe("networks", () => {
  it("are what is looked at, then what is kept, with the figures of each", async () => {
    const asked = shown([
      { id: 1, content: network(6) },
      { id: 2, content: network(5, { method: "fill", most_depth: 8 }) },
    ]);
    await waitFor(() => expect(rows()).toHaveLength(3));
    await waitFor(() => expect(rows()[0]?.textContent).toContain("94 %"));
    const [a, b, filled] = rows();
    expect(a?.textContent).toMatch(
      /Best of all.*lesser change.*none.*12 ha.*69\.1 km.*1–2.*94 %.*97 %.*5\.4 m.*6\.40 km²/,
    );
    expect(b?.textContent).toContain("76 %");
    expect(filled?.textContent).toContain("filled up to 8 m deep");
    // what is kept already is not kept again
    expect(screen.getByRole("button", { name: "Keep A as a network" })).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Keep B as a network" })).toBeNull();
    expect(asked.findLast((one) => one.path.endsWith("/figures"))?.body).toMatchObject({
      reference: 9,
      within: 20,
      outlet: { name: "Pell Harbour" },
      snap: 50,
    });
    // the chart holds A and B only
    expect(screen.getByRole("img", { name: "Length of streams by order" }).querySelectorAll("rect")).toHaveLength(4);
  });

  it("are kept, removed, and looked at in a slot", async () => {
    const asked = shown([{ id: 2, content: network(5, { method: "fill" }) }]);
    fireEvent.click(await screen.findByRole("button", { name: "Keep A as a network" }));
    await waitFor(() =>
      expect(asked.some((one) => one.method === "POST" && one.path.endsWith("/networks"))).toBe(true),
    );
    fireEvent.click(screen.getByRole("button", { name: "B: Best of all, filled" }));
    expect(useDrainState.getState().beside).toMatchObject({ surface: 5, method: "fill" });
    expect(useDesk.getState().slots.b).toBe("key5");
    fireEvent.click(screen.getByRole("button", { name: "A: Best of all, filled" }));
    expect(useDesk.getState().sheets.streams).toMatchObject({ inputs: { surface: 5 }, params: { method: "fill" } });
    fireEvent.click(screen.getByRole("button", { name: "Remove Best of all, filled" }));
    await waitFor(() => expect(asked.some((one) => one.method === "DELETE")).toBe(true));
  });

  it("can be worked out where they are not known, and say where a surface is gone", async () => {
    const asked = shown(
      [
        { id: 2, content: network(5, { method: "fill" }) },
        { id: 4, content: network(77) },
      ],
      {
        "POST /projects/1/drainage/figures": ({ body }: Asked) => {
          const { surface: of, method } = body as Network;
          if (of === 77) return new Response('{"detail": "Not Found"}', { status: 404 });
          return method === "fill" ? { known: false } : figures(0.9);
        },
        "POST /projects/1/drainage": { job: null },
      },
    );
    fireEvent.click(await screen.findByRole("button", { name: "Work it out" }));
    await waitFor(() => {
      const [one] = asked.filter((each) => each.path.endsWith("/drainage"));
      expect(one?.body).toMatchObject({ surface: 5, method: "fill" });
      expect(one?.body).not.toHaveProperty("begins_at");
    });
    expect(screen.getByText("a surface that was deleted")).toBeTruthy();
    expect(
      (screen.getByRole("button", { name: "A: a surface that was deleted, lesser change" }) as HTMLButtonElement)
        .disabled,
    ).toBe(true);
  });

  it("are only looked at by a viewer", async () => {
    shown([{ id: 2, content: network(5, { method: "fill" }) }], {}, "viewer");
    await waitFor(() => expect(rows()).toHaveLength(3));
    expect(screen.queryByText("Keep")).toBeNull();
    expect(screen.queryByRole("button", { name: /^Remove/ })).toBeNull();
  });
});

describe("water under the pointer", () => {
  it("is told of both slots, with where it goes", async () => {
    const asked = service({
      "GET /projects/1/holdings": [surface(5, "Best of all"), surface(6, "Beacon 30")],
      "POST /projects/1/drainage/way": ({ body }: Asked) => ({
        known: true,
        ends: (body as Network).surface === 5 ? "Pell Harbour" : "",
        line: [],
        length: 3_100,
        leaves: true,
        drained: (body as Network).surface === 5 ? 38.2 : 0.7,
      }),
    });
    draw(<WaterProbe at={{ x: 7, y: 8 }} />);
    expect((await screen.findByTestId("drains-a")).textContent).toBe("38.2 ha");
    await waitFor(() => expect(screen.getByTestId("drains-b").textContent).toMatch(/^7.000 m²$/));
    expect(screen.getByText(/to Pell Harbour/).textContent).toBe("water goes to Pell Harbour, 3.1 km");
    expect(asked.find((one) => one.path.endsWith("/way"))?.body).toMatchObject({ x: 7, y: 8, drawn: false });
  });
});
