// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { useDesk } from "../../desk/store";
import { draw, image, service } from "../../testing/render";
import { ImagePair } from "../build/ImagePair";

afterEach(cleanup);

const LOOK = {
  angle: 24.8, base_to_height: 0.44, cell: 1, height_of_cell: 2.27, overlap: [0.98, 0.979], heights: [0, 600],
  plane: { lon: 62.4, lat: -41.2, height: 198, metres: [83000, 111195], turn: 0, cell: 1, rows: 9, cols: 9, across: 0.07 },
  left: [], right: [], zero: -18, middle: [62.4, -41.2], frame: [[0, 0, 0, 0, 0, 0], [0, 0, 0, 0, 0, 0]],
}; // biome-ignore format: figures

const answers = (more = {}) => ({
  "GET /projects/1/holdings": [image(2, "avel_p2"), image(1, "avel_p1")],
  "GET /projects/1/jobs": [],
  "POST /projects/1/pairs/look": LOOK,
  "POST /projects/1/previews": { key: null, findings: [], outline: [], cells: 9, seconds: 40, quantity: "height" },
  ...more,
});

describe("the worksheet of an image pair", () => {
  it("takes two different images, in the order of their names, and says what they can give", async () => {
    const asked = service(answers());
    draw(<ImagePair />);
    expect(await screen.findByText("rays 24.8° apart")).toBeTruthy();
    // what is settled folds to a line, and the next part opens
    expect(screen.getByText("2.27 m")).toBeTruthy();
    expect(screen.getByRole("button", { name: /^settled ?Images/ }).getAttribute("aria-expanded")).toBe("false");
    expect(screen.getByRole("button", { name: /Tie points/ }).getAttribute("aria-expanded")).toBe("true");
    const body = asked.find((one) => one.path === "/projects/1/pairs/look")?.body;
    expect(body).toMatchObject({ left: 1, right: 2 });
    expect(useDesk.getState().bench).toBe("pair");
    cleanup();
    expect(useDesk.getState().bench).toBe("map");
  });

  it("finds tie points of both, and takes what was found for adjusting", async () => {
    const asked = service(answers({ "POST /projects/1/runs": { holding_id: 7, job: null } }));
    draw(<ImagePair />);
    const find = await screen.findByRole("button", { name: "Find tie points" });
    await waitFor(() => expect((find as HTMLButtonElement).disabled).toBe(false));
    fireEvent.click(find);
    await vi.waitFor(() => expect(useDesk.getState().sheets.adjust_models?.inputs.ties).toBe(7));
    expect(asked.find((one) => one.path === "/projects/1/runs")?.body).toMatchObject({
      operation: "tie_points",
      inputs: { left: 1, right: 2 },
    });
  });

  it("says why two images give no heights", async () => {
    const refuse = () => new Response(JSON.stringify({ detail: "It is the same image twice." }), { status: 422 });
    service(answers({ "POST /projects/1/pairs/look": refuse }));
    draw(<ImagePair />);
    expect(await screen.findByText("It is the same image twice.")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /Tie points/ }));
    expect((screen.getByRole("button", { name: "Find tie points" }) as HTMLButtonElement).disabled).toBe(true);
  });
});
