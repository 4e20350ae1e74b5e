import { lookUp } from "./cloudPainter";
import { INKS } from "./dress";
import type { Stop } from "./ramps";
import { groundOf, type Sight } from "./slicedLayer";

const bytesOf = (value: number) =>
  [value & 255, (value >> 8) & 255, (value >> 16) & 255].map((part) => part.toString(16).padStart(2, "0")).join("");

export interface DotPoints {
  count: number;
  x: Float64Array;
  y: Float64Array;
  z: Float32Array;
  code: Uint16Array;
}

/** Points as the service sends them, x, y, height, code, one array after the other; placed from the map's corner. */
export function decodePoints(buffer: ArrayBuffer, [west, south]: [number, number]): DotPoints {
  const count = buffer.byteLength / 22;
  const points = {
    count,
    x: new Float64Array(buffer, 0, count),
    y: new Float64Array(buffer, count * 8, count),
    z: new Float32Array(buffer, count * 16, count),
    code: new Uint16Array(buffer, count * 20, count),
  };
  for (let i = 0; i < count; i++) {
    points.x[i] = (points.x[i] as number) - west;
    points.y[i] = (points.y[i] as number) - south;
  }
  return points;
}

/** Dots drawn straight onto a canvas: a hundred thousand of them keep up with the hand. */
export class PointsPainter {
  onChange: () => void = () => undefined;
  private shown: (code: number) => boolean = () => true;
  private colour = "#1F2A30";
  private colours: string[] | null = null;
  private ofPoint: (i: number) => number = () => 0;

  constructor(private points: DotPoints) {}

  /** One colour, or each point's by its height on a ramp or by its code. */
  dress(
    colour: string,
    by: { stops: Stop[]; range: [number, number] } | "code" | null,
    shown: (code: number) => boolean,
  ): void {
    this.shown = shown;
    this.colour = colour || "#1F2A30";
    this.colours = null;
    if (by === "code") {
      this.colours = INKS;
      this.ofPoint = (i) => (this.points.code[i] as number) % INKS.length;
    } else if (by) {
      const [low, high] = by.range;
      this.colours = Array.from(lookUp(by.stops), (value) => `#${bytesOf(value)}`);
      this.ofPoint = (i) =>
        Math.min(Math.max((((this.points.z[i] as number) - low) / Math.max(high - low, 1e-6)) * 255, 0), 255) | 0;
    }
    this.onChange();
  }

  *paint(context: CanvasRenderingContext2D, sight: Sight): Generator<void, void> {
    const { points } = this;
    const { resolution, ratio } = sight;
    const { width, height } = context.canvas;
    const [west, , , north] = groundOf(sight);
    const scale = ratio / resolution;
    const dot = (resolution > 6 ? 1 : resolution > 2.5 ? 1.5 : 2.75) * ratio;
    const passes: [number, string, number][] = [[0, this.colour, resolution > 6 ? 0.55 : 0.9]];
    if (resolution <= 2.5) passes.unshift([0.75 * ratio, "#FCFBF7", 0.75]); // from afar a halo would hide the ground
    for (const [grow, fill, alpha] of passes) {
      const side = dot + 2 * grow;
      context.fillStyle = fill;
      context.globalAlpha = alpha;
      for (let i = 0; i < points.count; i++) {
        if (i % 2000 === 1999) yield;
        const x = ((points.x[i] as number) - west) * scale;
        const y = (north - (points.y[i] as number)) * scale;
        if (x < -side || y < -side || x > width + side || y > height + side) continue;
        if (!this.shown(points.code[i] as number)) continue;
        if (this.colours && grow === 0) context.fillStyle = this.colours[this.ofPoint(i)] ?? this.colour;
        context.fillRect(x - side / 2, y - side / 2, side, side);
      }
    }
  }
}
