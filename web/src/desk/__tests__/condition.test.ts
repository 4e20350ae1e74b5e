// the service reads the same language, and is tested with the same conditions

import { describe, expect, it } from "vitest";
import SHARED from "../../../../yama/terrain/tests/data/conditions.json";
import { ConditionError, condition, isCondition } from "../condition";

const { rows, cases, wrong } = SHARED;
const columns = ["name", "kind", "width", "land use"];
const found = (text: string) => {
  const test = condition(text, columns);
  return rows.flatMap((row, i) => (test(row) ? [i] : []));
};

describe("conditions on attributes", () => {
  it.each(cases as [string, number[]][])("%s", (text, wanted) => {
    expect(found(text)).toEqual(wanted);
  });

  it.each(wrong as [string, number, string][])("says where %s is wrong", (text, at, words) => {
    try {
      condition(text, columns);
      expect.unreachable();
    } catch (error) {
      expect(error).toBeInstanceOf(ConditionError);
      expect((error as ConditionError).message).toContain(words);
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
