import { describe, expect, it } from "vitest";
import { laidOver } from "../backdrops";

const CELLS = 258 * 258;
const plain = (colour: [number, number, number, number]) => {
  const pixels = new Uint8ClampedArray(CELLS * 4);
  for (let i = 0; i < CELLS; i++) pixels.set(colour, 4 * i);
  return pixels;
};
const first = (pixels: Uint8ClampedArray | null) => [...(pixels ?? []).slice(0, 4)];

describe("pictures laid over one another", () => {
  it("are the upper one where it hides all, and a mixture where it does not", () => {
    const [red, blue] = [plain([200, 0, 0, 255]), plain([0, 0, 100, 255])];
    expect(
      first(
        laidOver([
          { pixels: red, opacity: 1 },
          { pixels: blue, opacity: 1 },
        ]),
      ),
    ).toEqual([0, 0, 100, 255]);
    expect(
      first(
        laidOver([
          { pixels: red, opacity: 1 },
          { pixels: blue, opacity: 0.5 },
        ]),
      ),
    ).toEqual([100, 0, 50, 255]);
  });

  it("let through what none of them hides", () => {
    const red = plain([200, 0, 0, 255]);
    expect(
      first(
        laidOver([
          { pixels: red, opacity: 0.4 },
          { pixels: null, opacity: 1 },
        ]),
      ),
    ).toEqual([200, 0, 0, 102]);
    expect(
      first(
        laidOver([
          { pixels: red, opacity: 1 },
          { pixels: plain([9, 9, 9, 0]), opacity: 1 },
        ]),
      ),
    ).toEqual([200, 0, 0, 255]);
    expect(laidOver([{ pixels: null, opacity: 1 }])).toBeNull();
  });
});
