// @vitest-environment jsdom
import { cleanup, fireEvent, screen } from "@testing-library/react";
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

  it("is not offered to viewers", () => {
    service({ "GET /projects/1/holdings": [], "GET /projects/1/jobs": [] });
    draw(<AddFiles />, { role: "viewer" });
    expect(screen.queryByLabelText("Files to add")).toBeNull();
    expect(screen.getByText(/only editors and owners add files/)).toBeTruthy();
  });
});
