// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { inHand, shownOver } from "../../../testing/desk";
import { type Asked, draw, service, surface } from "../../../testing/render";
import { useDesk } from "../../store";
import { ProfileTab } from "../ProfileTab";
import {
  cell,
  csvOf,
  exaggeration,
  gradientAt,
  placeAt,
  placeNear,
  rangeOf,
  type Series,
  ticks,
} from "../profileChart";

afterEach(cleanup);

const series: Series[] = [
  { key: "a", name: "Lidar", colour: "#000", heights: [10, 12, null, 16] },
  { key: "b", name: '=cmd()"', colour: "#111", heights: [9, null, 11, 30] },
];

describe("a profile's chart", () => {
  it("has round marks within its range", () => {
    expect(ticks(0, 9_023, 6)).toEqual([0, 2_000, 4_000, 6_000, 8_000]);
    expect(ticks(-1.2, 1.1, 4)).toEqual([-1, 0, 1]);
    expect(ticks(5, 5, 4)).toEqual([5]);
  });

  it("holds all heights with some air, and none where there are none", () => {
    const [low, high] = rangeOf(series) as [number, number];
    expect(low).toBeLessThan(9);
    expect(high).toBeGreaterThan(30);
    expect(rangeOf([{ ...(series[0] as Series), heights: [null, null] }])).toBeNull();
  });

  it("finds the place under the pointer, and never one beyond the line", () => {
    expect(placeAt(46, 1_056, 101)).toBe(0);
    expect(placeAt(546, 1_056, 101)).toBe(50);
    expect([placeAt(-100, 1_056, 101), placeAt(9_000, 1_056, 101)]).toEqual([0, 100]);
  });

  it("finds the place nearest to the pointer on the map, where it is near enough", () => {
    const track = { x: [0, 10, 20], y: [0, 0, 0] };
    expect(placeNear(track, [11, 3], 5)).toBe(1);
    expect(placeNear(track, [11, 30], 5)).toBeNull();
  });

  it("says how much larger heights are drawn, and how steep it is at a place", () => {
    expect(exaggeration(1_000, [0, 100], 1_056, 128)).toBeCloseTo(1);
    expect(gradientAt([10, 12, 14], 1, [0, 4, 8])).toBeCloseTo(50);
    expect(gradientAt([10, 12, 14], 0, [0, 4, 8])).toBeCloseTo(50);
    expect(gradientAt([10, null, null], 0, [0, 4, 8])).toBeNull();
  });

  it("leaves as a table in which no name is a formula and gaps are empty", () => {
    const profile = { distance: [0, 2, 4, 6], x: [1, 2, 3, 4], y: [5, 6, 7, 8], step: 2, courses: {} };
    expect(csvOf(profile, series, "m")).toBe(
      `"distance m","x","y","Lidar m","'=cmd()"" m"\n0,1,5,10,9\n2,2,6,12,\n4,3,7,,11\n6,4,8,16,30\n`,
    );
    expect(cell("-5 m")).toBe(`"'-5 m"`);
  });
});

const course = (heights: (number | null)[]) => ({
  heights,
  lowest: 10,
  highest: 16,
  mean: 12,
  climb: 6,
  fall: 1.5,
  steepest: 40,
});
const line: [number, number][] = [
  [448_000, 5_438_000],
  [448_006, 5_438_000],
];
const open = () => {
  const asked = service({
    "GET /projects/1/holdings": [surface(1, "Lidar"), surface(2, "Beacon"), surface(3, "Plover")],
    "POST /projects/1/profiles": ({ body }: Asked) => ({
      distance: [0, 2, 4, 6],
      x: [448_000, 448_002, 448_004, 448_006],
      y: [5_438_000, 5_438_000, 5_438_000, 5_438_000],
      step: 2,
      courses: Object.fromEntries((body as { keys: string[] }).keys.map((key) => [key, course([10, 12, null, 16])])),
    }),
  });
  draw(<ProfileTab />);
  return asked;
};

describe("the profile", () => {
  it("asks for a surface, then for a line", async () => {
    open();
    expect(screen.getByText(/Put a surface of heights in A or B/)).toBeTruthy();
    act(() => useDesk.getState().put("a", "key1"));
    fireEvent.click(await screen.findByText("Draw a line on the map"));
    expect(inHand().kind).toBe("line");
  });

  it("shows A and B, and others that are added, and takes them out again", async () => {
    const asked = open();
    act(() => useDesk.getState().set({ slots: { a: "key1", b: "key2" }, line }));
    expect((await screen.findAllByText("6.0")).length).toBe(2);
    fireEvent.change(screen.getByLabelText("Add a surface"), { target: { value: "key3" } });
    await screen.findByLabelText("Leave Plover out");
    await waitFor(() => expect(asked.at(-1)?.body).toEqual({ keys: ["key1", "key2", "key3"], line }));
    fireEvent.click(screen.getByLabelText("Leave Plover out"));
    expect(useDesk.getState().also).toEqual([]);
  });

  it("links the pointer on the chart with the map", async () => {
    open();
    act(() => useDesk.getState().set({ slots: { a: "key1", b: null }, line }));
    const chart = await screen.findByRole("img", { name: "Heights along the line" });
    fireEvent.pointerMove(chart, { clientX: 5_000, clientY: 5 });
    await waitFor(() => expect(shownOver("profile")?.at).toEqual([448_006, 5_438_000]));
    expect(screen.getByText("16.00")).toBeTruthy();
    fireEvent.pointerLeave(chart);
    await waitFor(() => expect(shownOver("profile")?.at).toBeNull());
    act(() => useDesk.getState().set({ pointer: [448_002.3, 5_438_000.5], overMap: true }));
    await waitFor(() => expect(shownOver("profile")?.at).toEqual([448_002, 5_438_000]));
    expect(screen.getByText("12.00")).toBeTruthy();
    act(() => useDesk.getState().set({ overMap: false }));
    await waitFor(() => expect(shownOver("profile")?.at).toBeNull());
  });
});
