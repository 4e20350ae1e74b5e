// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { breaksFor, colourAt, RAMPS, type Stop, stopsOf } from "../../map/ramps";
import { lightOf, styleOf } from "../../map/style";
import { type Shown, useShown } from "../../map/useShown";
import { draw, service, surface } from "../../testing/render";
import { useHeld } from "../context";
import { LookButton } from "../look/LookButton";
import { lightAt, placeOf } from "../SunDial";
import { FRESH, type Look, restored, useDesk } from "../store";

afterEach(cleanup);

const look: Look = { ...FRESH.looks.height, range: [0, 100] };
const grey: Stop[] = [
  [0, "#000000"],
  [0.25, "#404040"],
  [1, "#FFFFFF"],
];

describe("a look", () => {
  it("turns its ramp about", () => {
    const stops = stopsOf({ ...look, stops: grey, reversed: true });
    expect(stops).toEqual([
      [0, "#FFFFFF"],
      [0.75, "#404040"],
      [1, "#000000"],
    ]);
  });

  it("has a colour for each class, with edges where it breaks", () => {
    const stops = stopsOf({ ...look, stops: grey, breaks: [80, 20, 500] });
    expect(stops.map(([, colour]) => colour)).toEqual([
      "#000000",
      "#000000",
      "#808080",
      "#808080",
      "#FFFFFF",
      "#FFFFFF",
    ]);
    expect(stops.map(([at]) => Number(at.toFixed(3)))).toEqual([0, 0.2, 0.2, 0.8, 0.8, 1]);
    expect(stopsOf({ ...look, stops: grey, breaks: [] })).toHaveLength(2);
  });

  it("breaks at round values", () => {
    expect(breaksFor([0, 611], 6)).toEqual([100, 200, 300, 400, 500, 600]);
    expect(breaksFor([-3.2, 4.1], 4)).toEqual([-2, 0, 2, 4]);
    expect(breaksFor([0, 45], 0)).toEqual([]);
  });

  it("finds colours between stops and past them", () => {
    expect([colourAt(grey, -1), colourAt(grey, 0.125), colourAt(grey, 1), colourAt(grey, 2)]).toEqual([
      "#000000",
      "#202020",
      "#FFFFFF",
      "#FFFFFF",
    ]);
  });

  it("that an earlier desk kept is made whole", () => {
    const kept = restored({ looks: { height: { ramp: "Slate", range: [1, 2], stretch: "typed" } } as never });
    expect(kept.looks.height).toMatchObject({
      ramp: "Slate",
      range: [1, 2],
      stops: null,
      reversed: false,
      breaks: null,
    });
    expect(kept.looks.slope).toEqual(FRESH.looks.slope);
  });
});

describe("the light", () => {
  it("is a place on the dial, and the place is that light", () => {
    for (const [azimuth, altitude] of [
      [315, 45],
      [90, 20],
      [180, 5],
      [10, 80],
    ] as const) {
      expect(lightAt(...placeOf(azimuth, altitude))).toEqual({ azimuth, altitude });
    }
    expect(lightAt(1_000, 46).altitude).toBe(5);
  });

  it("turns without another shader, but for the number of lights", () => {
    const { azimuth, altitude } = FRESH.light;
    const style = (change: object) =>
      JSON.stringify(styleOf(look, "height", false, { ...FRESH.light, ...change }).color);
    expect(style({ azimuth: 12, altitude: 70, strength: 0.3, rise: 4 })).toBe(style({}));
    expect(style({ several: true })).not.toBe(style({}));
    for (const several of [false, true]) expect(style({ several })).not.toMatch(/\de[-+]?\d/); // no shader reads exponents
    const { east, north, up } = lightOf({ ...FRESH.light, azimuth, altitude });
    expect([east, north, up].map((value) => Number(value?.toFixed(4)))).toEqual([
      -0.5,
      0.5,
      Number(Math.SQRT1_2.toFixed(4)),
    ]);
  });
});

const panel = () => {
  service({});
  draw(<Live />);
  fireEvent.click(screen.getByRole("button", { name: "Look: Foreshore" }));
};

function Live() {
  const now = useDesk((desk) => desk.looks.height);
  return <LookButton look={now} quantity="height" unit="m" />;
}

const height = () => useDesk.getState().looks.height;

describe("the look's panel", () => {
  it("changes ramp, direction, classes and colours", async () => {
    panel();
    act(() => useDesk.getState().look("height", { range: [0, 600] }));
    fireEvent.click(screen.getByRole("radio", { name: "Slate" }));
    fireEvent.click(screen.getByLabelText("Reversed"));
    fireEvent.change(screen.getByLabelText("Colour 1 of 5"), { target: { value: "#123456" } });
    expect(height()).toMatchObject({ ramp: "Slate", reversed: true });
    expect(height().stops?.[0]).toEqual([0, "#123456"]);
    fireEvent.click(screen.getByRole("button", { name: "more" }));
    expect(height().stops).toHaveLength(6);
    fireEvent.click(screen.getByRole("button", { name: "as it was" }));
    expect(height().stops).toBeNull();
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Classes" }));
    fireEvent.click(await screen.findByRole("option", { name: /about 6/ }));
    expect(height().breaks).toEqual([100, 200, 300, 400, 500]);
    const breaks = screen.getByLabelText("Breaks, m");
    fireEvent.change(breaks, { target: { value: "250; 12,5" } });
    fireEvent.blur(breaks);
    expect(height().breaks).toEqual([12.5, 250]);
  });

  it("keeps own ramps and whole looks, and forgets them", async () => {
    panel();
    fireEvent.change(screen.getByLabelText("Colour 1 of 7"), { target: { value: "#000000" } });
    const name = screen.getByLabelText("Keep ramp as");
    fireEvent.change(name, { target: { value: "Slate" } });
    expect((screen.getAllByRole("button", { name: "Keep" })[0] as HTMLButtonElement).disabled).toBe(true);
    fireEvent.change(name, { target: { value: "Bog" } });
    fireEvent.click(screen.getAllByRole("button", { name: "Keep" })[0] as HTMLElement);
    expect(useDesk.getState().ramps.Bog?.[0]).toEqual([0, "#000000"]);
    fireEvent.change(screen.getByLabelText("Altitude"), { target: { value: "20" } });
    fireEvent.change(screen.getByLabelText("Keep look as"), { target: { value: "Evening" } });
    fireEvent.click(screen.getAllByRole("button", { name: "Keep" })[1] as HTMLElement);
    fireEvent.click(screen.getByRole("radio", { name: "Kiln" }));
    fireEvent.click(screen.getByRole("button", { name: "Usual light" }));
    fireEvent.click(screen.getByRole("button", { name: "Evening" }));
    expect(height().ramp).toBe("Bog");
    expect(useDesk.getState().light.altitude).toBe(20);
    fireEvent.click(screen.getByRole("button", { name: "Forget the look Evening" }));
    fireEvent.click(screen.getByRole("button", { name: "Forget Bog" }));
    expect(useDesk.getState()).toMatchObject({ keptLooks: [], ramps: {} });
    expect(Object.keys(RAMPS)).not.toContain("Bog");
  });

  it("turns the light with the dial, by hand and by keys", () => {
    panel();
    fireEvent.keyDown(screen.getByRole("slider", { name: "Light" }), { key: "ArrowRight" });
    expect(useDesk.getState().light.azimuth).toBe(320);
    fireEvent.change(screen.getByLabelText("From"), { target: { value: "-90" } });
    expect(useDesk.getState().light.azimuth).toBe(270);
    fireEvent.click(screen.getByLabelText(/Four lights/));
    expect(useDesk.getState().light.several).toBe(true);
  });
});

const seen: (Shown | undefined)[] = [];
function Probe() {
  seen.push(useShown(useHeld().a));
  return null;
}

describe("what is shown of heights", () => {
  it("is the surface, or what an operation makes of it, live", async () => {
    const asked = service({
      "GET /projects/1/holdings": [surface(1, "Lidar")],
      "POST /projects/1/previews": { key: "steep", quantity: "slope", coarse: true, findings: [], outline: [] },
    });
    draw(<Probe />);
    act(() => useDesk.setState({ slots: { a: "key1", b: null } }));
    await waitFor(() => expect(seen.at(-1)).toEqual({ key: "key1", quantity: "height", coarse: false }));
    expect(asked.some(({ method }) => method === "POST")).toBe(false);
    act(() => useDesk.setState({ shownAs: "slope" }));
    await waitFor(() => expect(seen.at(-1)).toEqual({ key: "steep", quantity: "slope", coarse: true }));
    expect(asked.at(-1)?.body).toEqual({ operation: "slope", params: {}, inputs: { surface: 1 } });
  });

  it("is said where it cannot be", async () => {
    service({ "GET /projects/1/holdings": [surface(1, "Lidar")] });
    draw(<Live />);
    act(() => useDesk.setState({ slots: { a: "key1", b: null }, shownAs: "sky" }));
    fireEvent.click(screen.getByRole("button", { name: "Look: Foreshore" }));
    expect((await screen.findByRole("alert")).textContent).toContain("nothing at");
  });
});
