// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Draft } from "../../api/client";
import { useDesk } from "../../desk/store";
import { edited, merged } from "../../desk/useDraft";
import type { Collection, Drawn } from "../../map/shapes";
import { draw, lines, service } from "../../testing/render";
import { EditLines } from "../gather/EditLines";

afterEach(cleanup);

const feature = (id: number, name: string, width: number): Drawn => ({
  type: "Feature",
  id,
  properties: { name, width },
  geometry: {
    type: "LineString",
    coordinates: [
      [id, 0],
      [id, 1],
    ],
  },
});
const collection = (...features: Drawn[]): Collection => ({ type: "FeatureCollection", features });
const UNTOUCHED = collection(feature(0, "Avel", 6), feature(1, "Avell", 3), feature(2, "Harrow", 1));
const answer = (change: Partial<Draft>): Draft => ({
  titles: [],
  done: 0,
  gone: [],
  changed: collection() as never,
  said: [],
  ...change,
});
const NONE = merged(
  { titles: [], done: 0, said: [], gone: new Set(), changed: new Map() },
  answer({ changed: collection() as never }),
);

describe("a draft", () => {
  it("is the untouched features with what is gone and what changed", () => {
    const draft = merged(NONE, answer({ gone: [1], changed: collection(feature(2, "Lantern", 1)) as never }));
    expect(edited(UNTOUCHED, draft).features.map((one) => one.properties.name)).toEqual(["Avel", "Lantern"]);
  });

  it("comes back to the untouched ones when all is undone", () => {
    const draft = merged(NONE, answer({ gone: [1], changed: collection(feature(7, "new", 1)) as never }));
    const undone = merged(draft, answer({ gone: [7], changed: collection(feature(1, "Avell", 3)) as never }));
    expect(edited(UNTOUCHED, undone)).toEqual(UNTOUCHED);
  });
});

describe("the worksheet of edits", () => {
  const answers = (more: Record<string, unknown> = {}) => ({
    "GET /projects/1/holdings": [lines(4, "Rivers", ["Avel", "Avell", "Harrow"])],
    "GET /projects/1/holdings/4/features": UNTOUCHED,
    "GET /projects/1/holdings/4/edits": answer({}),
    "GET /projects/1/jobs": [],
    ...more,
  });
  const open = async () => {
    draw(<EditLines />);
    await screen.findByText("0 of 3");
  };
  const choose = (where: string) => {
    fireEvent.change(screen.getByLabelText("Choose where"), { target: { value: where } });
    fireEvent.submit(screen.getByLabelText("Choose where"));
  };

  it("chooses by a condition and names a mistake in it", async () => {
    service(answers());
    await open();
    choose("width > 2");
    expect(useDesk.getState().chosen).toEqual({ holding: 4, numbers: [0, 1] });
    choose("depth > 2");
    expect(screen.getByRole("alert").textContent).toContain("There is no column depth");
  });

  it("sends an edit of what is chosen, and shows the list and what was said", async () => {
    const asked = service(
      answers({
        "POST /projects/1/holdings/4/edits": answer({
          titles: ["Join 2 lines over 25 m"],
          done: 1,
          gone: [1],
          said: ["1 gap was closed."],
        }),
      }),
    );
    await open();
    expect(screen.getByRole("button", { name: "Join ends" })).toHaveProperty("disabled", true);
    choose("name contains avel");
    fireEvent.click(screen.getByRole("button", { name: "Join ends" }));
    expect(await screen.findByText("1 gap was closed.")).toBeTruthy();
    expect(asked.find((one) => one.method === "POST")?.body).toEqual({
      edit: { kind: "join", gap: 25, features: [0, 1] },
    });
    expect(screen.getByRole("list", { name: "Edits made" }).textContent).toContain("Join 2 lines over 25 m");
    await screen.findByText("1 of 2");
  });

  it("takes an edit back with Ctrl+Z, but not while somebody types", async () => {
    const asked = service(
      answers({
        "GET /projects/1/holdings/4/edits": answer({ titles: ["Delete 1 feature"], done: 1, gone: [2] }),
        "POST /projects/1/holdings/4/edits/undo": answer({
          titles: ["Delete 1 feature"],
          changed: collection(feature(2, "Harrow", 1)) as never,
        }),
      }),
    );
    draw(<EditLines />);
    await screen.findByText("0 of 2");
    fireEvent.keyDown(screen.getByLabelText("Choose where"), { key: "z", ctrlKey: true });
    fireEvent.keyDown(document.body, { key: "z", ctrlKey: true });
    await screen.findByText("0 of 3");
    expect(asked.filter((one) => one.method === "POST")).toHaveLength(1);
    expect(screen.getByText("undone")).toBeTruthy();
  });

  it("shows a refusal as it was said", async () => {
    const sentence = "No two ends of these lines lie within 25 m. Allow a wider gap.";
    service(
      answers({
        "POST /projects/1/holdings/4/edits": () => new Response(JSON.stringify({ detail: sentence }), { status: 422 }),
      }),
    );
    await open();
    choose("width > 0");
    fireEvent.click(screen.getByRole("button", { name: "Join ends" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toBe(sentence));
  });

  it("gives numbers as numbers", async () => {
    const asked = service(answers({ "POST /projects/1/holdings/4/edits": answer({}) }));
    await open();
    choose("name = Avell");
    fireEvent.mouseDown(screen.getByRole("combobox", { name: /Column/ }));
    fireEvent.click(screen.getByRole("option", { name: "width" }));
    fireEvent.change(screen.getByLabelText("Value"), { target: { value: "2,5" } });
    fireEvent.click(screen.getByRole("button", { name: "Set value" }));
    await waitFor(() =>
      expect(asked.find((one) => one.method === "POST")?.body).toEqual({
        edit: { kind: "set_value", column: "width", value: 2.5, features: [1] },
      }),
    );
  });
});
