// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { draw, service, surface } from "../../testing/render";
import { SlotChip } from "../SlotChip";

afterEach(cleanup);

describe("the chip of A", () => {
  const preview = { key: "p", quantity: "height" as const, coarse: false, outline: [], of: "Survey TIN" };

  it("says what lies on the map in its place", async () => {
    service({ "GET /projects/1/holdings": [surface(2, "Beacon 30")] });
    draw(<SlotChip slot="a" holding={surface(2, "Beacon 30")} preview={preview} />);
    expect(screen.getByText("Survey TIN").parentElement?.textContent).toBe("preview of Survey TIN");
    expect(screen.queryByText("Beacon 30")).toBeNull();
  });

  it("says what it holds otherwise", () => {
    service({ "GET /projects/1/holdings": [] });
    draw(<SlotChip slot="a" holding={surface(2, "Beacon 30")} />);
    expect(screen.getByText("Beacon 30")).toBeTruthy();
  });

  it("is filled from a list that can be searched, with tiles below their product", async () => {
    const tile = (id: number, at: string) =>
      surface(id, `Plover 30 ${at}`, { origin: { product: "plover-30", tile: at } });
    const held = [surface(2, "Beacon 30"), tile(3, "S41"), tile(4, "S42")];
    service({ "GET /projects/1/holdings": held });
    draw(<SlotChip slot="a" holding={held[0]} />);
    fireEvent.click(await screen.findByRole("combobox", { name: "Surface in A" }));
    const options = () => screen.getAllByRole("option").map((one) => one.textContent);
    await waitFor(() =>
      expect(options()).toEqual(["empty", "Beacon 30\u00a02 m", "Plover 30 S41\u00a02 m", "Plover 30 S42\u00a02 m"]),
    );
    expect(screen.getByText("Plover 30")).toBeTruthy();
    const find = screen.getByRole("combobox", { name: "Find a surface for A" });
    fireEvent.change(find, { target: { value: "s42" } });
    expect(options()).toEqual(["Plover 30 S42\u00a02 m"]);
    fireEvent.keyDown(find, { key: "Enter" });
    expect(useDesk.getState().slots.a).toBe("key4");
    await waitFor(() => expect(screen.queryByRole("listbox")).toBeNull());
    // Esc leaves all as it is
    fireEvent.click(screen.getByRole("combobox", { name: "Surface in A" }));
    fireEvent.keyDown(screen.getByRole("combobox", { name: "Find a surface for A" }), { key: "Escape" });
    await waitFor(() => expect(screen.queryByRole("listbox")).toBeNull());
    expect(useDesk.getState().slots.a).toBe("key4");
  });
});
