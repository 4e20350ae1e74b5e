// @vitest-environment jsdom
import { cleanup, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
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
});
