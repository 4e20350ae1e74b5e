// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { useDesk } from "../../desk/store";
import { type Asked, draw, lines, points, service, surface } from "../../testing/render";
import { groupsOf, megabytes } from "../deliver/contents";
import { PackageSheet } from "../deliver/PackageSheet";

afterEach(cleanup);

const made = surface(1, "Mosaic", { recipe: { operation: "mosaic", params: {}, inputs: {}, input_ids: {} } as never });
const came = surface(2, "Beacon 30");
const held = [made, came, lines(3, "Rivers", ["Avel"]), points(4, "Survey", { spot: 3 })];
const range = {
  code: "range",
  weight: "stop",
  sentence: "Mosaic: int16 in steps of 0.01 m holds -327.68 to 327.67 m; the heights run from -2.00 to 611.00.",
  why: "A step of 0.02 m would do.",
  fix: { label: "Take 0.02 m", set_params: { step: 0.02 } },
  places: [],
};
interface Body {
  name: string;
  holdings: number[];
  note: string;
  wanted: { cell_type: string; step: number; features_as: string };
}
const job = { id: "p1", kind: "package", state: "done", progress: 1, title: "", message: "", findings: [] };
const base = {
  "GET /projects/1/holdings": held,
  "GET /projects/1/jobs": [job],
  "GET /projects/1/packages": [
    {
      id: "p1",
      name: "First",
      file: "First.zip",
      bytes: 46_669_901,
      count: 7,
      report: true,
      made: "2026-11-26T08:36:24Z",
    },
  ],
  "POST /projects/1/packages/check": ({ body }: Asked) => {
    const { holdings, wanted } = body as Body;
    return {
      findings: wanted.cell_type === "int16" && wanted.step !== 0.02 ? [range] : [],
      members: holdings.map((id) => ({ holding_id: id, file: `${id}.tif`, step: 0.02 })),
    };
  },
  "POST /projects/1/packages": job,
  "DELETE /projects/1/packages/p1": null,
};
const last = (asked: Asked[], path: string) =>
  asked.filter((one) => one.method === "POST" && one.path.endsWith(path)).at(-1);

describe("packages", () => {
  it("offer what is here in groups, and only groups that hold something", () => {
    const groups = groupsOf({ surfaces: [made, came], others: held.slice(2) });
    expect(groups.map(({ title, holdings }) => [title, holdings.length])).toEqual([
      ["Surfaces made here", 1],
      ["Surfaces as they came", 1],
      ["Lines and areas", 1],
      ["Points", 1],
    ]);
  });

  it("say their size in words", () => {
    expect([megabytes(45_300), megabytes(46_669_901)]).toEqual(["45 kB", "46.7 MB"]);
  });

  it("are built of what is chosen, as it is to be written, with a note", async () => {
    const asked = service(base);
    draw(<PackageSheet />);
    const build = (await screen.findByRole("button", { name: "Build package" })) as HTMLButtonElement;
    expect(build.disabled).toBe(true);
    fireEvent.click(screen.getByLabelText("Mosaic"));
    fireEvent.click(screen.getByLabelText("Rivers"));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Lines" }));
    fireEvent.click(await screen.findByRole("option", { name: "shapefile" }));
    fireEvent.change(screen.getByLabelText("Note for the report"), { target: { value: "For the bridge." } });
    expect(screen.getByText("2 of 4 chosen")).toBeTruthy();
    fireEvent.click(build);
    await screen.findByText("The package is built.");
    const sent = last(asked, "/packages")?.body as Body;
    expect(sent).toMatchObject({
      holdings: [1, 3],
      note: "For the bridge.",
      report: true,
      wanted: { surfaces_as: "tif", cell_type: "stored", step: 0, nan: true, features_as: "shp", points_as: "csv" },
    });
    expect(sent.name).toMatch(/^.+, \d{4}-\d\d-\d\d$/);
    expect(screen.getAllByText("Download")[0]?.getAttribute("href")).toBe("/api/projects/1/packages/p1/file");
  });

  it("are not built of cells that cannot hold the heights, until that is mended at a press", async () => {
    const asked = service(base);
    draw(<PackageSheet />);
    fireEvent.click(await screen.findByLabelText("Mosaic"));
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "Cells" }));
    fireEvent.click(await screen.findByRole("option", { name: "whole numbers of 16 bits" }));
    const build = screen.getByRole("button", { name: "Build package" }) as HTMLButtonElement;
    await screen.findByRole("button", { name: "Take 0.02 m" });
    expect(build.disabled).toBe(true);
    fireEvent.click(screen.getByRole("button", { name: "Take 0.02 m" }));
    await waitFor(() => expect(build.disabled).toBe(false));
    expect(last(asked, "/check")?.body).toMatchObject({ wanted: { cell_type: "int16", step: 0.02 } });
    expect(useDesk.getState().sheets.package?.params.step).toBe(0.02);
  });

  it("hold of clouds the points of the classes that are kept", async () => {
    const cloud = surface(5, "Tile", {
      kind: "cloud",
      surface: null,
      cloud: { classes: { 1: 40, 2: 60, 7: 2 }, class_names: { 1: "unclassified", 2: "ground", 7: "low noise" } },
    } as never);
    const asked = service({ ...base, "GET /projects/1/holdings": [...held, cloud] });
    draw(<PackageSheet />);
    fireEvent.click(await screen.findByLabelText("Tile"));
    fireEvent.click(screen.getByLabelText("low noise"));
    fireEvent.click(screen.getByLabelText("unclassified"));
    fireEvent.click(screen.getByRole("button", { name: "Build package" }));
    await waitFor(() => expect(last(asked, "/packages")?.body).toMatchObject({ wanted: { classes: [2] } }));
    fireEvent.click(screen.getByLabelText("low noise"));
    fireEvent.click(screen.getByLabelText("unclassified"));
    await waitFor(() => expect(last(asked, "/check")?.body).toMatchObject({ wanted: { classes: null } }));
    for (const name of ["low noise", "unclassified", "ground"]) fireEvent.click(screen.getByLabelText(name));
    await waitFor(() => expect(last(asked, "/check")?.body).toMatchObject({ wanted: { classes: [] } })); // none is not all
  });

  it("stay here until they are deleted", async () => {
    const asked = service(base);
    draw(<PackageSheet />);
    await screen.findByText("First");
    expect(screen.getByText("Report", { selector: "a" }).getAttribute("href")).toBe(
      "/api/projects/1/packages/p1/report",
    );
    fireEvent.click(screen.getByRole("button", { name: "Delete" }));
    await waitFor(() => expect(asked.some(({ method }) => method === "DELETE")).toBe(true));
  });
});
