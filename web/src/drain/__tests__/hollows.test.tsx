// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { Hollow, Hollows } from "../../api/client";
import { useDesk } from "../../desk/store";
import { useMend } from "../../mend/state";
import { shownOver } from "../../testing/desk";
import { type Asked, draw, service, surface } from "../../testing/render";
import { HollowsTab } from "../HollowsTab";
import { useDrainState } from "../state";

afterEach(cleanup);
beforeEach(() => {
  useDrainState.setState({
    looked: [{ slot: "a", content: { surface: 5, method: "fill", sea: 1, begins_at: 12 } as never }],
  });
  useDesk.setState({ sheets: {} });
});

const hollow = (number: number, kind: Hollow["kind"], said = false): Hollow => ({
  number,
  kind,
  title: kind,
  why: kind === "error" ? "61 m deep over 3 cells: ground does not stand so steeply." : "",
  said,
  x: 100,
  y: 200,
  depth: 61.2,
  level: 240.4,
  cells: 3,
  area: 12,
  volume: 420,
  inner: 1,
  way: 14,
  rings: [
    [
      [98, 198],
      [102, 198],
      [102, 202],
      [98, 202],
      [98, 198],
    ],
  ],
});
const listed: Hollows = {
  known: true,
  total: 2,
  counts: { water: 0, error: 1, culvert: 0, open: 1 },
  least_depth: 0.5,
  cut_short: false,
  hollows: [hollow(1, "error"), hollow(2, "open", true)],
};

function shown(answers: Record<string, unknown> = {}, role?: "viewer") {
  const asked = service({
    "GET /projects/1/holdings": [surface(5, "Best of all")],
    "GET /projects/1/drainage/hollows/said": [],
    "POST /projects/1/drainage/hollows/list": listed,
    "PUT /projects/1/drainage/hollows/said": [{ x: 100, y: 200, kind: "water" }],
    "POST /projects/1/holdings/5/patches": { version: 1, entries: [], other: null, undo: "", redo: "", said: [] },
    ...answers,
  });
  draw(<HollowsTab />, role ? { role } : undefined);
  return asked;
}

describe("hollows", () => {
  it("stand with what they are and why, and on the map", async () => {
    const asked = shown();
    const table = await screen.findByRole("table", { name: "Hollows" });
    const [first] = within(table).getAllByRole("row").slice(1);
    expect(first?.textContent).toMatch(/61\.2 m12 m²420 m³240\.4 m14 m61 m deep over 3 cells/);
    expect(shownOver("suspects")).toMatchObject([{ number: 1 }, { number: 2 }]);
    expect(shownOver("inked")).toHaveLength(2);
    // what becomes of them makes no difference to what they are
    expect(asked.find((one) => one.path.endsWith("/list"))?.body).not.toHaveProperty("method");
    fireEvent.click(screen.getByRole("button", { name: /^error in the data/ }));
    await waitFor(() => expect(asked.at(-1)?.body).toMatchObject({ kind: "error", sea: 1 }));
    fireEvent.click(screen.getByRole("button", { name: "Go to hollow 1" }));
    expect(useDesk.getState().goTo).toMatchObject({ x: 100, y: 200 });
  });

  it("are what somebody says, which can be taken back", async () => {
    const asked = shown();
    fireEvent.change(await screen.findByLabelText("What hollow 1 is"), { target: { value: "water" } });
    const says = () => asked.filter((one) => one.method === "PUT").map((one) => one.body);
    await waitFor(() => expect(says()).toEqual([{ x: 100, y: 200, kind: "water" }]));
    fireEvent.click(screen.getByRole("button", { name: "Take back what was said of hollow 2" }));
    await waitFor(() => expect(says().at(-1)).toEqual({ x: 100, y: 200, kind: null }));
  });

  it("become patches under Mend", async () => {
    const asked = shown();
    fireEvent.click(await screen.findByRole("button", { name: "Mend hollow 1" }));
    await waitFor(() => expect(useDesk.getState().stage).toBe("Mend"));
    const { body } = asked.find((one) => one.path.endsWith("/patches")) as Asked;
    const [says] = (body as { says: Record<string, unknown>[] }).says;
    expect(says).toMatchObject({ kind: "patch", content: { operator: { kind: "across" }, ring: { length: 4 } } });
    expect(useMend.getState().chosen).toBe(says?.name);
    expect(useDesk.getState().sheets.mend).toMatchObject({ inputs: { surface: 5 } });
  });

  it("are looked for once, and a viewer is told to ask for it", async () => {
    const unknown = { "POST /projects/1/drainage/hollows/list": { known: false } };
    const asked = shown({ ...unknown, "POST /projects/1/drainage/hollows": { job: null } });
    await waitFor(() => expect(asked.filter((one: Asked) => one.path.endsWith("/hollows"))).toHaveLength(1));
    cleanup();
    const seen = shown(unknown, "viewer");
    expect(await screen.findByText(/Nobody has looked for hollows yet/)).toBeTruthy();
    expect(seen.filter((one: Asked) => one.path.endsWith("/hollows"))).toEqual([]);
  });

  it("say what is refused, and that there are none", async () => {
    shown({
      "POST /projects/1/drainage/hollows/list": () =>
        new Response('{"detail": "All of it lies below a sea of 900 m."}', { status: 422 }),
    });
    expect(await screen.findByText("All of it lies below a sea of 900 m.")).toBeTruthy();
    cleanup();
    shown({ "POST /projects/1/drainage/hollows/list": { ...listed, hollows: [], total: 0 } });
    expect(await screen.findByText(/No hollow is as deep as that/)).toBeTruthy();
  });
});
