// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { boundsOf, choicesOf, OPERATIONS, propertyOf, usual } from "../../api/operations";
import { useDesk } from "../../desk/store";
import { type Asked, draw, points, service, surface } from "../../testing/render";
import { Worksheet } from "../Worksheet";

afterEach(cleanup);

const base = {
  "GET /projects/1/holdings": [surface(1, "Skerry 5"), surface(2, "Plover 30")],
  "GET /projects/1/jobs": [],
  "POST /projects/1/runs": { holding_id: 9, job: null },
  "POST /projects/1/previews": { key: null, findings: [], outline: [], cells: 9, seconds: 1, quantity: "slope" },
};
const last = (asked: Asked[]) => asked.filter((one) => one.path.endsWith("/previews")).at(-1)?.body;
const open = (name: keyof typeof OPERATIONS) => {
  const asked = service(base);
  draw(<Worksheet open={() => undefined} />);
  useDesk.getState().open("Deliver", name);
  return asked;
};

describe("the worksheet of an operation that has nothing special", () => {
  it("draws its inputs and parameters from the catalogue, and sends what is set", async () => {
    const asked = open("hillshade");
    expect(await screen.findByRole("heading", { level: 1, name: "Hillshade" })).toBeTruthy();
    expect(((await screen.findByLabelText("Azimuth")) as HTMLInputElement).value).toBe("315");
    await waitFor(() => expect(last(asked)).toEqual({ operation: "hillshade", params: {}, inputs: { surface: 1 } }));
    fireEvent.change(screen.getByLabelText("Azimuth"), { target: { value: "90" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Lights" }));
    fireEvent.click(await screen.findByRole("option", { name: "four" }));
    await waitFor(() => expect(last(asked)).toMatchObject({ params: { azimuth: 90, lights: "four" } }));
    expect(screen.getByPlaceholderText("Hillshade of Skerry 5")).toBeTruthy();
  });

  it("marks a number that is out of bounds and says within which it makes sense", async () => {
    open("hillshade");
    const field = await screen.findByLabelText("Altitude");
    fireEvent.change(field, { target: { value: "120" } });
    expect(field.getAttribute("aria-invalid")).toBe("true");
    expect(field.closest("[title]")?.getAttribute("title")).toBe("Altitude: above 0, up to 90 °.");
  });

  it("keeps the name that was typed, whether it is kept live or run", async () => {
    const asked = open("slope");
    const name = await screen.findByPlaceholderText("Slope of Skerry 5");
    fireEvent.change(name, { target: { value: "Steep ground" } });
    const names = () =>
      asked.filter((one) => one.path.endsWith("/runs")).map((one) => (one.body as { name: string }).name);
    for (const button of ["Keep live", "Run"]) {
      const press = await screen.findByRole("button", { name: button });
      await waitFor(() => expect((press as HTMLButtonElement).disabled).toBe(false));
      const before = names().length;
      fireEvent.click(press);
      await waitFor(() => expect(names().length).toBe(before + 1));
    }
    expect(names()).toEqual(["Steep ground", "Steep ground"]);
    expect((name as HTMLInputElement).value).toBe("Steep ground");
  });

  it("shows what a choice means where nobody made it", async () => {
    service({ ...base, "GET /projects/1/holdings": [points(5, "Survey", { spot: 9 })] });
    draw(<Worksheet open={() => undefined} />);
    useDesk.getState().open("Build", "interpolate_points");
    expect((await screen.findByRole("combobox", { name: "Duplicates" })).textContent).toBe("their mean");
  });

  it("says what is missing where nothing can go in", async () => {
    service({ ...base, "GET /projects/1/holdings": [] });
    draw(<Worksheet open={() => undefined} />);
    useDesk.getState().open("Deliver", "slope");
    expect(await screen.findByText(/No surface yet/)).toBeTruthy();
  });
});

describe("every operation of the catalogue", () => {
  it("has a title, what it usually is, and titles for all values of its choices", () => {
    for (const [name, { params }] of Object.entries(OPERATIONS) as [keyof typeof OPERATIONS, never][]) {
      expect(Object.keys(usual(name))).toEqual(Object.keys((params as { properties?: object }).properties ?? {}));
      for (const parameter of Object.keys(usual(name))) {
        const { title, enum: values } = propertyOf(name, parameter);
        expect(title).toMatch(/^[A-Z]/);
        if (values)
          expect(
            choicesOf(name, parameter)
              .map((one) => one.value)
              .sort(),
          ).toEqual(values.map(String).sort());
      }
    }
  });

  it("tells bounds of numbers in words", () => {
    expect(boundsOf(propertyOf("interpolate_points", "tension"))?.words).toBe("Tension: from 0, up to 20.");
    expect(boundsOf(propertyOf("clip", "where"))).toBeUndefined();
  });
});
