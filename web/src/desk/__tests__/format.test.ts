import { describe, expect, it } from "vitest";
import { degrees, many, num, parse, percent, size } from "../format";

describe("numbers", () => {
  it("groups digits with a no-break space and keeps the decimals asked for", () => {
    expect(num(5437902.149, 1)).toBe("5\u00a0437\u00a0902.1");
    expect(num(999)).toBe("999");
    expect(num(1000)).toBe("1\u00a0000");
  });
  it("has a true minus, and none on a zero", () => {
    expect(num(-2.494, 2)).toBe("\u22122.49");
    expect(num(-0.001, 2)).toBe("0.00");
  });
  it("says nothing where there is nothing", () => {
    for (const nothing of [null, undefined, Number.NaN, Number.POSITIVE_INFINITY]) expect(num(nothing, 2)).toBe("–");
  });
  it("gives cell sizes, shares, counts and degrees as people say them", () => {
    expect([size(2), size(26.8), size(0.25), size(2.5)]).toEqual(["2", "27", "0.25", "2.5"]);
    expect(percent(0.224)).toBe("22.4 %");
    expect([many(20_971_520), many(740_000), many(950)]).toEqual(["21.0 million", "740 thousand", "950"]);
    expect(degrees(-41.20191, ["N", "S"])).toBe("41.20191° S");
  });
});

describe("typed numbers", () => {
  it("are read with comma or point, spaces and either minus", () => {
    expect(parse("5 437 902,5")).toBe(5437902.5);
    expect(parse("\u22123.5")).toBe(-3.5);
    expect(parse("-7")).toBe(-7);
    expect(parse(".5")).toBe(0.5);
    expect(parse(num(-1234.5, 1))).toBe(-1234.5);
  });
  it("are refused where they are none", () => {
    for (const text of ["", "sixty", "1.2.3", "60 m", "--1", "."]) expect(parse(text)).toBeNull();
  });
});
