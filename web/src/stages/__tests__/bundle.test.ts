import { describe, expect, it } from "vitest";
import { type Bundle, bundles, packed } from "../gather/bundle";

describe("files that belong together", () => {
  const named = (...names: string[]) => bundles(names.map((name) => new File(["x"], name)));

  it("are sent as one: parts of a shapefile, and a raster with what says where it lies", () => {
    const found = named(
      "Roads.shp",
      "a.csv",
      "roads.DBF",
      "roads.shx",
      "roads.prj",
      "b.tif",
      "b.tfw",
      "b.tif.aux.xml",
      "c.prj",
    );
    expect(found.map((one) => [one.name, one.files.map((file) => file.name)])).toEqual([
      ["Roads.zip", ["Roads.shp", "roads.DBF", "roads.shx", "roads.prj"]],
      ["a.csv", ["a.csv"]],
      ["b.zip", ["b.tif", "b.tfw", "b.tif.aux.xml"]],
      ["c.prj", ["c.prj"]],
    ]);
    expect(named("tile.png", "tile.pgw", "tile.prj")).toHaveLength(1);
    expect(named("left.tif", "left_RPC.txt", "right.tif", "right_RPC.txt").map((one) => one.name)).toEqual([
      "left.zip",
      "right.zip",
    ]);
  });

  it("make the same bytes each time, as a zip that holds them", async () => {
    const [one] = named("b.tif", "b.tfw") as [Bundle];
    const [first, second] = [await packed(one), await packed(one)];
    const bytes = new Uint8Array(await first.arrayBuffer());
    expect(first.name).toBe("b.zip");
    expect(bytes.slice(0, 4)).toEqual(new Uint8Array([0x50, 0x4b, 3, 4]));
    expect(bytes).toEqual(new Uint8Array(await second.arrayBuffer()));
    expect(new TextDecoder("latin1").decode(bytes)).toContain("b.tfw");
  });
});
