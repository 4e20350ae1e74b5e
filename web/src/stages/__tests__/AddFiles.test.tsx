// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { draw, job, points, service } from "../../testing/render";
import { AddFiles } from "../gather/AddFiles";

/** Stands in for the browser's request: answers each upload by the file's name. */
class Sent {
  static all: string[] = [];
  static answers: Record<string, [number, unknown]> = {};
  upload: { onprogress?: (event: { loaded: number; total: number }) => void } = {};
  status = 0;
  responseText = "";
  onload?: () => void;
  private name = "";
  open(_method: string, address: string) {
    this.name = new URL(address, "http://desk").searchParams.get("name") ?? "";
  }
  setRequestHeader() {}
  send() {
    Sent.all.push(this.name);
    const [status, body] = Sent.answers[this.name] ?? [500, {}];
    this.status = status;
    this.responseText = JSON.stringify(body);
    window.setTimeout(() => this.onload?.(), 0);
  }
}

beforeEach(() => {
  Sent.all = [];
  vi.stubGlobal("XMLHttpRequest", Sent);
});
afterEach(cleanup);

function choose(...names: string[]) {
  const files = names.map((name) => new File(["x"], name));
  // as in a browser: the list belongs to the field, and is emptied with it
  const list: Record<number | string, unknown> = { length: files.length, item: (i: number) => list[i] };
  files.forEach((file, i) => {
    list[i] = file;
  });
  const field = screen.getByLabelText("Files to add");
  Object.defineProperty(field, "files", { value: list, configurable: true });
  Object.defineProperty(field, "value", {
    configurable: true,
    get: () => "",
    set: () => {
      for (let i = 0; i < files.length; i++) delete list[i];
      list.length = 0;
    },
  });
  fireEvent.change(field);
}

describe("adding files", () => {
  it("sends every chosen file, and shows what each turned out to be", async () => {
    const added = points(7, "bank heights", { "": 60 });
    service({
      "GET /projects/1/holdings": [added],
      "GET /projects/1/jobs": [job("j1", { kind: "take_in", holding_id: 7 })],
    });
    Sent.answers = {
      "bank heights.csv": [202, { job: job("j1"), holding_id: null }],
      "cut short.tif": [422, { detail: "cut short.tif is not a readable GeoTIFF." }],
    };
    draw(<AddFiles />);
    choose("bank heights.csv", "cut short.tif");
    expect((await screen.findByRole("alert")).textContent).toBe("cut short.tif is not a readable GeoTIFF.");
    expect(Sent.all).toEqual(["bank heights.csv", "cut short.tif"]);
    expect(await screen.findByText("no findings")).toBeTruthy();
    expect(screen.getByText("60")).toBeTruthy();
  });

  it("says so when the same file is here already, or when its job failed", async () => {
    service({
      "GET /projects/1/holdings": [points(7, "bank heights", { "": 60 })],
      "GET /projects/1/jobs": [
        job("j2", { kind: "take_in", state: "failed", message: "flat.csv has no height column." }),
      ],
    });
    Sent.answers = {
      "again.csv": [200, { job: null, holding_id: 7 }],
      "flat.csv": [202, { job: job("j2"), holding_id: null }],
    };
    draw(<AddFiles />);
    choose("again.csv", "flat.csv");
    expect((await screen.findByRole("region", { name: "bank heights" })).textContent).toContain("was here already");
    expect((await screen.findByRole("alert")).textContent).toBe("flat.csv has no height column.");
  });

  it("asks what a file does not say, and takes it in as answered", async () => {
    const finding = {
      code: "unit_asked",
      weight: "stop",
      sentence: "hill.tif does not say in what its heights are.",
      why: "",
      fix: null,
      places: [],
      answers: [
        { label: "In US survey feet", set_params: { unit: "us-ft" } },
        { label: "In metres", set_params: { unit: "m" } },
      ],
    };
    const question = {
      file_key: "k1",
      name: "hill.tif",
      declared: { crs: "EPSG:32741" },
      findings: [finding],
      zip: "",
    };
    const fromZip = { ...question, file_key: "k2", name: "dale.las", declared: {}, zip: "all.zip" };
    fromZip.findings = [
      {
        ...finding,
        code: "no_crs",
        sentence: "dale.las does not say its CRS.",
        answers: [{ label: "Use this CRS", set_params: { crs: "" } }],
      },
    ] as never;
    const asked = service({
      "GET /projects/1/holdings": [],
      "GET /projects/1/jobs": [
        job("j9", { kind: "take_in", state: "failed", message: "asked", question: fromZip as never }),
      ],
      "POST /projects/1/uploads/k1/take": { job: job("j3"), holding_id: null },
      "POST /projects/1/uploads/k2/take": { job: job("j4"), holding_id: null },
    });
    Sent.answers = { "hill.tif": [200, { job: null, holding_id: null, question }] };
    draw(<AddFiles />);
    choose("hill.tif");
    fireEvent.click(await screen.findByRole("button", { name: "In US survey feet" }));
    await vi.waitFor(() =>
      expect(asked.find((one) => one.path.endsWith("k1/take"))?.body).toEqual({
        name: "hill.tif",
        declared: { crs: "EPSG:32741", unit: "us-ft" },
      }),
    );
    // a member of a zip is asked about once its job came to it; the frame's CRS is offered, and named only by a press
    fireEvent.click(screen.getByRole("button", { name: "Use this CRS" }));
    await vi.waitFor(() =>
      expect(asked.find((one) => one.path.endsWith("k2/take"))?.body).toEqual({
        name: "dale.las",
        declared: { crs: "EPSG:32741" },
      }),
    );
  });

  it("lets one type what it cannot know, such as which tile a picture is", async () => {
    const finding = {
      code: "no_place",
      weight: "stop",
      sentence: "heights.png does not say where it lies.",
      why: "",
      places: [],
      fix: null,
      answers: [{ label: "Use this tile", set_params: { tile: "" } }],
    };
    Sent.answers = {
      "heights.png": [200, { question: { file_key: "k", name: "heights.png", declared: {}, findings: [finding] } }],
    };
    const asked = service({
      "GET /projects/1/holdings": [],
      "GET /projects/1/jobs": [],
      "POST /projects/1/uploads/k/take": { job: job("j9"), holding_id: null },
    });
    draw(<AddFiles />);
    choose("heights.png");
    const press = (await screen.findByRole("button", { name: "Use this tile" })) as HTMLButtonElement;
    expect(press.disabled).toBe(true);
    fireEvent.change(screen.getByRole("textbox", { name: "Use this tile" }), { target: { value: " 9/344/321 " } });
    fireEvent.click(press);
    await waitFor(() =>
      expect(asked.find((one) => one.path.endsWith("/take"))?.body).toEqual({
        name: "heights.png",
        declared: { tile: "9/344/321" },
      }),
    );
  });

  it("is not offered to viewers", () => {
    service({ "GET /projects/1/holdings": [], "GET /projects/1/jobs": [] });
    draw(<AddFiles />, { role: "viewer" });
    expect(screen.queryByLabelText("Files to add")).toBeNull();
    expect(screen.getByText(/only editors and owners add files/)).toBeTruthy();
  });
});
