// @vitest-environment jsdom
import { cleanup, fireEvent, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { shownOver } from "../../testing/desk";
import { draw, service } from "../../testing/render";
import { FacetsSwitch } from "../build/FacetsSwitch";

afterEach(cleanup);

const edge = [0, 0, 1, 1];
const shown = async (answer: unknown) => {
  const asked = service({ "GET /projects/1/facets/one": answer });
  const drawn = draw(<FacetsSwitch />);
  useDesk.setState({ bounds: [0, 0, 10, 20], slots: { a: "one", b: null } });
  fireEvent.click(screen.getByLabelText("Show facets on the map"));
  return { asked, text: (await screen.findByRole("status")).textContent, ...drawn };
};

describe("the switch of facets", () => {
  it("asks for those in view once it is on, and says what they are", async () => {
    const { asked, text, unmount } = await shown({
      count: 9,
      sloping: [edge, edge, edge],
      level: [edge, edge, edge],
      left_out: [edge, edge, edge],
    });
    expect(text).toBe("3 facets: 1 level (bold), 1 left out (dashed).");
    expect(asked).toHaveLength(1);
    expect(shownOver("facets")?.count).toBe(9);
    unmount();
    expect(shownOver("facets")).toBeUndefined();
  });

  it("says when there are too many, none, or no facets at all", async () => {
    const none = { sloping: [], level: [], left_out: [] };
    const first = await shown({ count: 300_000, ...none });
    expect(first.text).toContain("too many to show. Go closer.");
    first.unmount();
    const second = await shown({ count: 0, ...none });
    expect(second.text).toBe("No facet reaches into the view.");
    second.unmount();
    expect((await shown({ count: null, ...none })).text).toBe("What is shown is not made of facets.");
  });
});
