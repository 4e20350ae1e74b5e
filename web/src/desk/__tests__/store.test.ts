import { beforeEach, describe, expect, it } from "vitest";
import { editOf, FRESH, remembered, restored, toolOf, useDesk } from "../store";

describe("the desk", () => {
  beforeEach(() => useDesk.setState({ ...FRESH, preview: null, overlays: [], tools: [], bench: "map" }));

  it("puts surfaces into slots and swaps them", () => {
    useDesk.getState().put("a", "one");
    useDesk.getState().put("b", "two");
    useDesk.getState().swap();
    expect(useDesk.getState().slots).toEqual({ a: "two", b: "one" });
  });

  it("keeps each operation's settings by themselves", () => {
    const { sheet } = useDesk.getState();
    sheet("slope", { inputs: { surface: 3 } });
    sheet("slope", { name: "Steep" });
    sheet("aspect", { name: "Falls" });
    expect(useDesk.getState().sheets).toEqual({
      slope: { inputs: { surface: 3 }, params: {}, name: "Steep" },
      aspect: { inputs: {}, params: {}, name: "Falls" },
    });
  });

  it("has one tool in hand, under which editing waits", () => {
    const { take, drop } = useDesk.getState();
    const done = () => undefined;
    expect(toolOf(useDesk.getState()).kind).toBe("read");
    take({ kind: "edit", owner: "lines", holding: 4, with: "split", snap: true });
    take({ kind: "area", owner: "one", done });
    take({ kind: "line", owner: "other", done });
    expect(toolOf(useDesk.getState())).toMatchObject({ owner: "other" });
    expect(editOf(useDesk.getState())?.holding).toBe(4);
    drop("one"); // laid down by another long ago
    drop("other");
    expect(toolOf(useDesk.getState()).kind).toBe("edit");
  });

  it("goes back a step at Esc: from a tool to editing, from there to choosing, and then it is the worksheet's", () => {
    const { take, leave } = useDesk.getState();
    take({ kind: "edit", owner: "lines", holding: 4, with: "split", snap: true });
    take({ kind: "area", owner: "one", done: () => undefined });
    expect(leave()).toBe(true);
    expect(toolOf(useDesk.getState())).toMatchObject({ kind: "edit", with: "split" });
    expect(leave()).toBe(true);
    expect(toolOf(useDesk.getState())).toMatchObject({ with: "choose" });
    expect(leave()).toBe(false);
  });

  it("brings the map to front for a tool that three dimensions do not obey", () => {
    useDesk.setState({ bench: "scene" });
    useDesk.getState().take({ kind: "pick", owner: "one", press: () => undefined });
    expect(useDesk.getState().bench).toBe("scene");
    useDesk.getState().take({ kind: "edit", owner: "lines", holding: 4, with: "split", snap: true });
    expect(useDesk.getState().bench).toBe("map");
  });

  it("remembers what a person chose and forgets what passes", () => {
    useDesk.getState().look("height", { ramp: "Slate" });
    useDesk.setState({ hovered: "k", pointer: [1, 2] });
    const kept = JSON.parse(JSON.stringify(remembered(useDesk.getState())));
    expect(kept).not.toHaveProperty("hovered");
    expect(kept).not.toHaveProperty("pointer");
    expect(restored(kept).looks.height.ramp).toBe("Slate");
  });

  it("knows whether anything was ever put in A or B, also of a desk of before", () => {
    expect(restored({}).begun).toBe(false);
    expect(restored({ slots: { a: null, b: "k" } } as never).begun).toBe(true);
    useDesk.setState({ ...FRESH });
    useDesk.getState().put("a", null); // emptied by hand: it stays empty
    expect(remembered(useDesk.getState()).begun).toBe(true);
  });

  it("puts what was fixed in the place of its original wherever that was chosen, once", () => {
    useDesk.setState({
      ...FRESH,
      slots: { a: "old", b: "other" },
      also: ["old"],
      sheets: {
        mosaic: { inputs: { surfaces: [3, 4, 5] }, params: { groups: [0, 0, 1] }, name: "Mine" },
        slope: { inputs: { surface: 4 }, params: {}, name: "" },
      },
    });
    useDesk.getState().standIn([{ old: { id: 4, key: "old" }, fixed: { id: 9, key: "new" } }]);
    const desk = useDesk.getState();
    expect(desk.sheets.mosaic).toEqual({
      inputs: { surfaces: [3, 9, 5] },
      params: { groups: [0, 0, 1] },
      name: "Mine",
    });
    expect(desk.sheets.slope?.inputs).toEqual({ surface: 9 });
    expect([desk.slots, desk.also, desk.stoodIn]).toEqual([{ a: "new", b: "other" }, ["new"], [9]]);
  });

  it("opens whatever an earlier version kept", () => {
    expect(restored({})).toEqual(FRESH);
    const old = restored({ slots: { a: "k" }, looks: { height: FRESH.looks.slope } } as never);
    expect(old.slots).toEqual({ a: "k", b: null });
    expect(old.looks.difference).toEqual(FRESH.looks.difference);
  });
});
