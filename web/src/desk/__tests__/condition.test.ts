import { describe, expect, it } from "vitest";
import { ConditionError, condition, isCondition } from "../condition";

const rows = [
  { name: "Avel", kind: "river", width: 6, "land use": "wood" },
  { name: "Avell", kind: "river", width: 2.5, "land use": "" },
  { name: "Old Cut", kind: "side channel", width: null, "land use": "meadow" },
  { name: "and so on", kind: "stream", width: 1, "land use": null },
];
const columns = ["name", "kind", "width", "land use"];
const found = (text: string) => {
  const test = condition(text, columns);
  return rows.flatMap((row, i) => (test(row) ? [i] : []));
};

describe("conditions on attributes", () => {
  it.each<[string, number[]]>([
    ["width > 2", [0, 1]],
    ["width >= 2,5", [0, 1]],
    ["width != 6", [1, 2, 3]],
    ["width < 2", [3]],
    ["kind = river", [0, 1]],
    ["kind = side channel", [2]],
    ["name contains vel", [0, 1]],
    ["land use is empty", [1, 3]],
    ['"land use" = wood', [0]],
    ["kind = river and width > 3", [0]],
    ["kind = stream or kind = side channel", [2, 3]],
    ["not kind = river", [2, 3]],
    ["kind = river and (name = Avell or width > 5)", [0, 1]],
    ["not (kind = river or width <= 1)", [2]],
    ["kind = stream or kind = river and width > 3", [0, 3]], // and binds before or
    ['name = "and so on"', [3]],
    ["NAME = Avel", [0]],
    ["name > Avel", [1, 2, 3]],
  ])("%s", (text, wanted) => {
    expect(found(text)).toEqual(wanted);
  });

  it.each<[string, number, RegExp]>([
    ["depth > 2", 1, /no column depth; there are: name, kind/],
    ["width", 6, /After width comes/],
    ["width >", 8, /value is missing/],
    ["(width > 2", 11, /not closed/],
    ["width > 2) or", 10, /not understood/],
    ["kind = river and ", 18, /no column nothing/],
  ])("says where %s is wrong", (text, at, words) => {
    try {
      condition(text, columns);
      expect.unreachable();
    } catch (error) {
      expect(error).toBeInstanceOf(ConditionError);
      expect((error as ConditionError).message).toMatch(words);
      expect((error as ConditionError).at).toBe(at);
    }
  });

  it("is told from words to look for", () => {
    expect(["Avel", "old cut", "width > 3", "name contains a", "land use is empty"].map(isCondition)).toEqual([
      false,
      false,
      true,
      true,
      true,
    ]);
  });
});
