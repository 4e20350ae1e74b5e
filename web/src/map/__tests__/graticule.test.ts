import { describe, expect, it } from "vitest";
import { crossing, graticuleLayer } from "../graticuleLayer";
import type { Place } from "../shapes";

describe("the graticule", () => {
  it("finds where a bent line crosses the rim of a pane", () => {
    const bent: Place[] = [
      [0, 0],
      [10, 1],
      [20, 4],
    ];
    expect(crossing(bent, 0, 15)).toEqual([15, 2.5]);
    expect(crossing(bent, 1, 0.5)).toEqual([5, 0.5]);
    expect(crossing(bent, 0, 21)).toBeNull();
    // a line along the rim crosses it nowhere
    expect(
      crossing(
        [
          [0, 3],
          [9, 3],
        ],
        1,
        3,
      ),
    ).toBeNull();
  });

  it("draws each line where the pane has it", () => {
    const lines = [{ axis: "x" as const, text: "448 000 E", places: [448000, 5438000, 448000, 5439000] }];
    const layer = graticuleLayer(lines, ([x, y]) => [x - 448000, y - 5438000]);
    const [feature] = layer.getSource()?.getFeatures() ?? [];
    expect(feature?.getGeometry()?.getExtent()).toEqual([0, 0, 0, 1000]);
  });
});
