// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import View from "ol/View";
import { afterEach, describe, expect, it, vi } from "vitest";
import { useDesk } from "../../desk/store";
import { type Asked, draw, service, surface } from "../../testing/render";
import { Several } from "../Several";

vi.mock("../MapPane", () => ({ MapPane: ({ label }: { label: string }) => <div role="img" aria-label={label} /> }));

afterEach(cleanup);

const HELD = ["Best of all", "Beacon 30", "Plover 30", "Heron 90", "Lidar", "Survey TIN", "Slopes"].map((name, i) =>
  surface(i + 1, name),
);

function shown() {
  const asked = service({
    "GET /projects/1/holdings": HELD,
    "GET /projects/1/probe": {
      x: 1,
      y: 2,
      longitude: 62,
      latitude: -41,
      readings: {},
      others: { key1: 92.741, key2: 93.36, key3: null },
    },
    "POST /projects/1/lines": [],
  });
  draw(<Several view={new View()} among={(all) => all} onBusy={() => undefined} onPin={() => undefined} />);
  useDesk.setState({ slots: { a: "key1", b: "key2" }, also: ["key3"], bounds: [0, 0, 9, 9] });
  return asked;
}

describe("several surfaces side by side", () => {
  it("have a map each, their names and their heights under the pointer", async () => {
    shown();
    const plover = await screen.findByRole("region", { name: "Plover 30" });
    expect(screen.getAllByRole("region")).toHaveLength(3);
    useDesk.setState({ pointer: [443_600, 5_442_500], overMap: true });
    await waitFor(() => expect(screen.getByText("92.74 m")).toBeTruthy());
    expect(within(plover).getByText("empty")).toBeTruthy();
    expect(within(screen.getByRole("region", { name: "Best of all" })).getByText("A")).toBeTruthy();
  });

  it("are added up to six, and left out", async () => {
    shown();
    await screen.findByRole("region", { name: "Plover 30" });
    for (const name of ["Heron 90", "Lidar", "Survey TIN"]) {
      fireEvent.mouseDown(screen.getByRole("combobox", { name: "Add a surface" }));
      fireEvent.click(screen.getByRole("option", { name: new RegExp(`^${name}`) }));
    }
    expect(screen.getAllByRole("region")).toHaveLength(6);
    expect(screen.getByText("six at most")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Leave Lidar out" }));
    expect(screen.getAllByRole("region")).toHaveLength(5);
    expect(screen.queryByRole("button", { name: "Leave Best of all out" })).toBeNull();
  });

  it("have contours at one interval", async () => {
    const asked = shown();
    await screen.findByRole("region", { name: "Plover 30" });
    expect(asked.some((one) => one.path.endsWith("/lines"))).toBe(false);
    fireEvent.change(screen.getByRole("textbox", { name: /Contours every/ }), { target: { value: "0.5" } });
    const of = () =>
      asked
        .filter((one) => one.path.endsWith("/lines"))
        .map(({ body }: Asked) => (body as { run: { inputs: { surface: number }; params: object } }).run);
    await waitFor(() => expect(new Set(of().map((one) => one.inputs.surface))).toEqual(new Set([1, 2, 3])));
    expect(of()[0]?.params).toEqual({ interval: 0.5, unit: "m" });
    fireEvent.change(screen.getByRole("textbox", { name: /Contours every/ }), { target: { value: "-2" } });
    expect(useDesk.getState().contoursEvery).toBe(0.5);
  });
});
