// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Use } from "../../api/client";
import { useDesk } from "../../desk/store";
import { shownOver } from "../../testing/desk";
import { draw, service, surface } from "../../testing/render";
import { AreaOfUse, useAreaOfUse } from "../gather/AreaOfUse";
import { HolesList } from "../gather/HolesList";

afterEach(cleanup);

const square = (x: number, y: number, side: number) => [
  [x, y],
  [x + side, y],
  [x + side, y + side],
  [x, y + side],
  [x, y],
];
const hole = (id: number, side: number, cells: number, area: number) => ({
  type: "Feature",
  id,
  properties: { cells, area, exact: true },
  geometry: { type: "Polygon", coordinates: [square(448_000, 5_438_000, side)] },
});
const holed = surface(6, "Beacon 30", { holes: { count: 2, cells: 170, outside: 4 } });

describe("the holes of an arrival", () => {
  const open = async () => {
    service({
      "GET /projects/1/holdings/6/holes": {
        type: "FeatureCollection",
        features: [hole(0, 300, 129, 92_804), hole(1, 1500, 41, 2_250_000)],
      },
    });
    draw(<HolesList holding={holed} />);
    expect(screen.queryByRole("list")).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Look at them" }));
    return screen.findByRole("list", { name: "Holes of Beacon 30" });
  };

  it("are listed with area and cells when asked for", async () => {
    const list = await open();
    expect(list.textContent?.replace(/\s/g, " ")).toContain("92 804 m²129 cells");
    expect(list.textContent).toContain("2.25 km²");
  });

  it("are shown as shapes, and hidden again", async () => {
    await open();
    fireEvent.click(screen.getByRole("button", { name: "Show the shapes" }));
    expect(shownOver("rims")).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: "Hide the shapes" }));
    expect(shownOver("rims")).toBeUndefined();
  });

  it("are gone to one by one, at a scale that shows them whole", async () => {
    await open();
    fireEvent.click(screen.getByRole("button", { name: "Go to hole 2" }));
    expect(useDesk.getState().goTo).toEqual({ x: 448_750, y: 5_438_750, resolution: 7.5 });
    expect(shownOver("rims")).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: "Close" }));
    expect(shownOver("rims")).toBeUndefined();
  });
});

function Asked({ typed }: { typed: Record<string, number | null> }) {
  const { use, unit } = useAreaOfUse("EPSG:32741", typed);
  return (
    <>
      <output>{unit}</output>
      <AreaOfUse use={use} />
    </>
  );
}
const use = (change: Partial<Use>): Use => ({
  name: "WGS 84 / UTM zone 41S",
  unit: "metre",
  area: "",
  bounds: [60, -80, 66, 0],
  place: [62.4, -41.2],
  inside: true,
  ...change,
});
const SIDES = { west: 443_520, south: 5_434_368, east: 453_760, north: 5_442_560 };

describe("where a CRS is meant for", () => {
  it("is drawn and said, with the unit of its axes", async () => {
    const asked = service({ "POST /frames/use": use({}) });
    draw(<Asked typed={SIDES} />);
    expect(await screen.findByRole("img", { name: "Area of use of WGS 84 / UTM zone 41S" })).toBeTruthy();
    expect(screen.getByText("m")).toBeTruthy();
    expect(screen.getByRole("figure").textContent).toContain("60.0° E to 66.0° E, 80.0° S to 0.0° N");
    expect(screen.queryByText(/reaches outside/)).toBeNull();
    expect(asked[0]?.body).toEqual({ crs: "EPSG:32741", area: [443_520, 5_434_368, 453_760, 5_442_560] });
  });

  it("is a caution where the frame reaches outside, with its place", async () => {
    service({ "POST /frames/use": use({ inside: false, place: [58.2, -41] }) });
    draw(<Asked typed={SIDES} />);
    expect((await screen.findByText(/reaches outside/)).textContent).toContain("58.2° E");
  });

  it("says of numbers that are no place at all", async () => {
    service({ "POST /frames/use": use({ inside: false, place: null }) });
    draw(<Asked typed={SIDES} />);
    expect(await screen.findByText(/These numbers are no place in it/)).toBeTruthy();
  });

  it("asks without an area while a side is missing, and draws one that crosses the date line in two", async () => {
    const asked = service({ "POST /frames/use": use({ bounds: [170, -50, -170, -30], place: null, inside: null }) });
    draw(<Asked typed={{ ...SIDES, west: null }} />);
    const picture = await screen.findByRole("img");
    expect(picture.querySelectorAll(".meant")).toHaveLength(2);
    await waitFor(() => expect(asked[0]?.body).toEqual({ crs: "EPSG:32741", area: null }));
  });
});
