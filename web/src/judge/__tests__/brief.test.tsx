// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Brief, BriefAnswers } from "../../api/client";
import { useDesk } from "../../desk/store";
import { BriefSheet } from "../../stages/judge/BriefSheet";
import { type Asked, draw, job, lines, points, service, surface } from "../../testing/render";
import { BriefMet } from "../BriefMet";
import { isWhole, limitOf, shownLimit } from "../demands";

afterEach(cleanup);

const OPEN = { kind: "error", figure: "le95", within: 0.5, covers: ["grass", "rock"], called: "open ground" };
const WOOD = { kind: "error", figure: "le95", within: 1.5, covers: ["wood"], called: "" };
const CELLS = { kind: "cells", size: 2 };
const HOLES = { kind: "holes", features: 9, column: "", value: "", label: "" };
const brief = (change: Partial<Brief> = {}): Brief => ({
  version: 3,
  demands: [
    { title: "95 % of errors in open ground within 0.50 m", content: OPEN },
    { title: "No hole inside Boundary", content: HOLES },
    { title: "Cells of 2 m", content: CELLS },
  ],
  vegetated: ["wood"],
  ...change,
});
const ANSWERS: BriefAnswers = {
  version: 3,
  answers: [
    { met: true, figure: 0.44, shown: "0.44 m", told: "At 104 checkpoints.", at: null },
    { met: false, figure: 3, shown: "3 holes", told: "1 240 m² stay empty.", at: [448_000, 5_438_000] },
    null,
  ],
  statement: ["Tested vertical accuracy in non-vegetated ground: 0.41 m."],
};
const HELD = [
  surface(5, "Best of all"),
  points(7, "Checkpoints 2026", { grass: 120, wood: 12 }),
  lines(8, "Rivers", ["Avel"]),
];

function shown(sheet: "met" | "sheet", answers: Record<string, unknown> = {}, role = "editor"): Asked[] {
  const asked = service({
    "GET /projects/1/holdings": HELD,
    "GET /projects/1/jobs": [job("j", { state: "running" })],
    "GET /projects/1/brief": brief(),
    "GET /projects/1/brief/5": ANSWERS,
    "POST /projects/1/brief/5": { job: job("j", { state: "running" }) },
    "GET /projects/1/holdings/8/values": [{ value: "Avel", count: 4 }],
    ...answers,
  });
  draw(sheet === "met" ? <BriefMet /> : <BriefSheet />, { checkpoints_id: 7, role: role as "editor" });
  useDesk.setState({ slots: { a: "key5", b: null } });
  return asked;
}
const posts = (asked: Asked[]) => asked.filter((one) => one.method === "POST");

describe("what the brief asks of A", () => {
  it("stands there demand by demand, met or not met, with what was found", async () => {
    shown("met");
    const list = await screen.findByRole("list", { name: "Demands" });
    await waitFor(() => expect(within(list).getByText("0.44 m")).toBeTruthy());
    const [one, other, third] = within(list).getAllByRole("listitem");
    expect(one?.textContent).toContain("within 0.50 mmet0.44 m");
    expect(other?.textContent).toContain("not met3 holes1 240 m² stay empty.");
    expect(third?.textContent).toContain("not known yet");
    expect(screen.getByText(/of/, { selector: "small span" }).textContent).toBe("1 of 3 met");
    fireEvent.click(screen.getByRole("button", { name: /Go there/ }));
    expect(useDesk.getState().goTo).toMatchObject({ x: 448_000, y: 5_438_000 });
    fireEvent.click(screen.getByRole("button", { name: "Fill holes" }));
    expect(useDesk.getState()).toMatchObject({ stage: "Join", operation: "fill_voids" });
  });

  it("has cells read once where they must be, and not by viewers", async () => {
    const asked = shown("met");
    expect(await screen.findByText(/Reading its cells/)).toBeTruthy();
    await waitFor(() => expect(posts(asked)).toHaveLength(1));
    cleanup();
    const looked = shown("met", {}, "viewer");
    expect(await screen.findByText(/an editor of this project must look at it first/)).toBeTruthy();
    expect(posts(looked)).toHaveLength(0);
    expect(screen.queryByRole("button", { name: "Fill holes" })).toBeNull();
  });

  it("says what to do where nothing is asked, or nothing stands in A", async () => {
    shown("met", { "GET /projects/1/brief": brief({ demands: [] }) });
    fireEvent.click(await screen.findByRole("button", { name: "Write the brief" }));
    expect(useDesk.getState()).toMatchObject({ stage: "Judge", operation: "brief" });
    cleanup();
    shown("met");
    useDesk.setState({ slots: { a: null, b: null } });
    expect(await screen.findByText(/Put a surface of heights in A/)).toBeTruthy();
  });

  it("tells a job that failed, with a way to try again", async () => {
    shown("met", {
      "POST /projects/1/brief/5": () => new Response('{"detail": "The disk is full."}', { status: 507 }),
    });
    expect(await screen.findByText(/The disk is full/)).toBeTruthy();
    expect(screen.getByRole("button", { name: "Try again" })).toBeTruthy();
  });
});

describe("the worksheet of the brief", () => {
  it("asks for more, and sends the whole brief with the version that was seen", async () => {
    const asked = shown("sheet", { "PUT /projects/1/brief": brief({ version: 4 }) });
    fireEvent.mouseDown(await screen.findByRole("combobox", { name: "Ask for" }));
    fireEvent.click(await screen.findByRole("option", { name: "a river falls" }));
    const keep = screen.getByRole("button", { name: "Keep" });
    expect(keep.hasAttribute("disabled")).toBe(true);
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Lines" }));
    fireEvent.click(await screen.findByRole("option", { name: "Rivers" }));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Of these" }));
    fireEvent.click(await screen.findByRole("option", { name: "by name" }));
    expect(keep.hasAttribute("disabled")).toBe(true);
    await waitFor(() => expect(asked.some((one) => one.path.endsWith("/values"))).toBe(true));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "name" }));
    fireEvent.click(await screen.findByRole("option", { name: "Avel (4)" }));
    fireEvent.change(screen.getByRole("textbox", { name: "Rises at most" }), { target: { value: "0.2" } });
    fireEvent.click(keep);
    await waitFor(() => expect(asked.some((one) => one.method === "PUT")).toBe(true));
    expect(asked.find((one) => one.method === "PUT")?.body).toEqual({
      version: 3,
      vegetated: ["wood"],
      demands: [
        OPEN,
        HOLES,
        CELLS,
        { kind: "falling", features: 8, column: "name", value: "Avel", label: "", within: 0.2 },
      ],
    });
    await waitFor(() => expect(screen.queryByRole("button", { name: "Keep" })).toBeNull());
  });

  it("changes one demand, keeps what was typed where that is refused, and removes one", async () => {
    let refused = true;
    const asked = shown("sheet", {
      "PUT /projects/1/brief": () =>
        refused ? new Response('{"detail": "Two demands speak of the same."}', { status: 422 }) : brief({ version: 4 }),
    });
    fireEvent.click(await screen.findByRole("button", { name: "Change: Cells of 2 m" }));
    fireEvent.change(screen.getByRole("textbox", { name: "At most" }), { target: { value: "1" } });
    fireEvent.click(screen.getByRole("button", { name: "Keep" }));
    expect(await screen.findByText("Two demands speak of the same.")).toBeTruthy();
    expect((screen.getByRole("textbox", { name: "At most" }) as HTMLInputElement).value).toBe("1");
    refused = false;
    fireEvent.click(screen.getByRole("button", { name: "Cancel" }));
    fireEvent.click(screen.getByRole("button", { name: /^Remove: 95 %/ }));
    await waitFor(() => expect(asked.filter((one) => one.method === "PUT")).toHaveLength(2));
    expect(asked.findLast((one) => one.method === "PUT")?.body).toMatchObject({ demands: [HOLES, CELLS] });
  });

  it("shows a viewer what is asked and lets them change nothing", async () => {
    shown("sheet", {}, "viewer");
    expect(await screen.findAllByText("No hole inside Boundary")).toHaveLength(2);
    expect(screen.queryByRole("button", { name: /^(Change|Remove)/ })).toBeNull();
    expect(screen.queryByRole("combobox", { name: "Ask for" })).toBeNull();
    expect(screen.queryByRole("checkbox", { name: "wood" })).toBeNull();
    expect(await screen.findByText(/Tested vertical accuracy/)).toBeTruthy();
  });
});

describe("limits", () => {
  const told = (...contents: Record<string, unknown>[]) => contents.map((content) => ({ content }));
  it("are those of a cover, or else of all places", () => {
    const demands = told(OPEN, WOOD, CELLS);
    expect(limitOf(demands, "rock")).toBe(0.5);
    expect(limitOf(demands, "wood")).toBe(1.5);
    expect(limitOf(demands, "town")).toBeUndefined();
    expect(limitOf(told(OPEN, { ...WOOD, covers: [] }), "town")).toBe(1.5);
    expect(limitOf(told({ ...OPEN, figure: "rmse" }), "grass")).toBeUndefined();
    expect(shownLimit(demands)).toEqual({ within: 0.5, where: "open ground" });
    expect(shownLimit(told(OPEN, { ...WOOD, covers: [] }))).toEqual({ within: 1.5, where: "" });
    expect(shownLimit(told(CELLS))).toBeUndefined();
  });
  it("need all that makes them a demand", () => {
    expect(isWhole({ kind: "error", covers: [] })).toBe(false);
    expect(isWhole({ kind: "error", within: 1 })).toBe(true);
    expect(isWhole({ kind: "datum", datum: " " })).toBe(false);
    expect(isWhole({ kind: "holes", features: 4, column: "kind", value: "" })).toBe(false);
    expect(isWhole({ kind: "holes", features: 4, column: "" })).toBe(true);
  });
});
