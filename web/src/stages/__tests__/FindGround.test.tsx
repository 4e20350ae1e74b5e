// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { cloud, draw, job, service } from "../../testing/render";
import { FindGround } from "../build/FindGround";

afterEach(cleanup);

const preview = {
  key: null,
  quantity: "height",
  findings: [],
  outline: [],
  cells: 100,
  cell_size: 2,
  coarse: false,
  seconds: 0,
  filled: 0,
  holding_id: null,
};
const CLOUDS = [
  cloud(3, "tile A", { "1": 100 }),
  cloud(4, "tile B", { "1": 50 }),
  cloud(5, "done before", { "2": 60 }),
];
let number = 0;
const answers = () => ({
  "GET /projects/1/holdings": CLOUDS,
  "GET /projects/1/jobs": [job("j1", { progress: 0.4, state: "running" }), job("j2", { state: "done" })],
  "POST /projects/1/previews": preview,
  "POST /projects/1/runs": () => {
    number += 1;
    return { job: job(`j${number}`), holding_id: null };
  },
});

describe("finding ground", () => {
  it("takes the clouds without ground, and sends each with the others beside it", async () => {
    number = 0;
    const asked = service(answers());
    draw(<FindGround />);
    expect(((await screen.findByLabelText(/tile A/)) as HTMLInputElement).checked).toBe(true);
    expect((screen.getByLabelText(/done before/) as HTMLInputElement).checked).toBe(false);
    fireEvent.change(screen.getByLabelText("Widest thing"), { target: { value: "35" } });
    fireEvent.click(screen.getByRole("button", { name: "Find ground" }));
    await screen.findByText("is made");
    expect(screen.getByText(/^40[.]0\s%$/)).toBeTruthy();
    const sent = asked.filter((one) => one.path.endsWith("/runs")).map((one) => one.body);
    expect(sent).toEqual([
      {
        operation: "find_ground",
        params: { window: 35 },
        inputs: { cloud: 3, beside: [4, 5] },
        name: "tile A with ground",
      },
      {
        operation: "find_ground",
        params: { window: 35 },
        inputs: { cloud: 4, beside: [3, 5] },
        name: "tile B with ground",
      },
    ]);
  });

  it("hides the settings of noise where none is looked for", async () => {
    service(answers());
    draw(<FindGround />);
    expect(await screen.findByLabelText("In cubes of")).toBeTruthy();
    fireEvent.click(screen.getByLabelText(/Points that lie alone/));
    expect(screen.queryByLabelText("In cubes of")).toBeNull();
    expect(useDesk.getState().sheets.find_ground?.params.noise).toBe(false);
  });

  it("asks for nothing where nothing is chosen", async () => {
    service(answers());
    draw(<FindGround />);
    fireEvent.click(await screen.findByLabelText(/tile A/));
    fireEvent.click(screen.getByLabelText(/tile B/));
    await waitFor(() => expect(screen.getByRole("button", { name: "Find ground" })).toHaveProperty("disabled", true));
  });

  it("says what to do where there is none", async () => {
    service({ "GET /projects/1/holdings": [], "GET /projects/1/jobs": [] });
    draw(<FindGround />);
    expect(await screen.findByText(/Add LAS or LAZ files in Gather/)).toBeTruthy();
  });
});
