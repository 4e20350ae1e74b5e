import { bytes } from "../api/client";
import { CLASS_COLOURS, type CloudBy } from "./dress";
import type { Stop } from "./ramps";
import { groundOf, type Sight } from "./slicedLayer";

/** A cloud's overview as the service describes it: squares as level, column, row, first point, number of points. */
export interface CloudIndex {
  west: number;
  south: number;
  size: number;
  levels: number;
  count: number;
  nodes: [number, number, number, number, number][];
}

const RECORD = 16;
const BUDGET = 1_200_000;
const AT_ONCE = 6;
const LARGEST = 256; // pixels that a square may be wide before its quarters are wanted

/** The squares to draw for a view, coarse first: those in sight, down to where a square is small on the screen. */
export function squaresFor(
  index: CloudIndex,
  [west, south, east, north]: [number, number, number, number],
  resolution: number,
): number[] {
  const wanted: number[] = [];
  let points = 0;
  index.nodes.forEach(([level, col, row, , count], number) => {
    const side = index.size / 2 ** level;
    const x = index.west + col * side;
    const y = index.south + row * side;
    if (x > east || y > north || x + side < west || y + side < south) return;
    if (level > 0 && (side * 2) / resolution <= LARGEST) return;
    points += count;
    if (points <= BUDGET) wanted.push(number);
  });
  return wanted;
}

function rgba(colour: string): number {
  const value = Number.parseInt(colour.slice(1), 16);
  return (0xff000000 | ((value & 0xff) << 16) | (value & 0xff00) | (value >> 16)) >>> 0;
}

/** 256 colours along a ramp. */
export function lookUp(stops: Stop[]): Uint32Array<ArrayBuffer> {
  const parts = stops.map(([place, colour]) => {
    const value = Number.parseInt(colour.slice(1), 16);
    return [place, value >> 16, (value >> 8) & 255, value & 255] as const;
  });
  return Uint32Array.from({ length: 256 }, (_, i) => {
    const at = i / 255;
    const next = parts.findIndex(([place]) => place >= at);
    const b = parts[next < 0 ? parts.length - 1 : next];
    const a = parts[Math.max((next < 0 ? parts.length : next) - 1, 0)];
    if (!a || !b) return 0xff000000;
    const share = b[0] > a[0] ? Math.min(Math.max((at - a[0]) / (b[0] - a[0]), 0), 1) : 0;
    const mix = (k: 1 | 2 | 3) => Math.round(a[k] + (b[k] - a[k]) * share);
    return (0xff000000 | (mix(3) << 16) | (mix(2) << 8) | mix(1)) >>> 0;
  });
}

/** A point cloud written straight into pixels, square by square. */
export class CloudPainter {
  onChange: () => void = () => undefined;
  private held = new Map<number, DataView>();
  private loading = new Set<number>();
  private colours = new Uint32Array(256);
  private by: CloudBy = "height";
  private range: [number, number] = [0, 1];
  private shown: (code: number) => boolean = () => true;

  constructor(
    private path: string,
    private index: CloudIndex,
    private origin: [number, number],
  ) {}

  dress(by: CloudBy, stops: Stop[], range: [number, number], shown: (code: number) => boolean): void {
    this.by = by;
    this.range = range;
    this.shown = shown;
    this.colours = lookUp(stops);
    if (by === "class")
      this.colours = Uint32Array.from({ length: 256 }, (_, code) => rgba(CLASS_COLOURS[code] ?? "#8D8779"));
    if (by === "return") {
      const inks = ["#8D8779", "#3F7440", "#9A6F45", "#B05A4A", "#6A5A8C"];
      this.colours = Uint32Array.from({ length: 256 }, (_, i) => rgba(inks[Math.min(i & 15, 4)] ?? "#8D8779"));
    }
    this.onChange();
  }

  private fetch(number: number): void {
    if (this.loading.size >= AT_ONCE || this.loading.has(number) || this.held.has(number)) return;
    this.loading.add(number);
    bytes(`${this.path}/${number}`)
      .then((body) => this.held.set(number, new DataView(body ?? new ArrayBuffer(0))))
      .catch(() => this.held.set(number, new DataView(new ArrayBuffer(0))))
      .finally(() => {
        this.loading.delete(number);
        if (this.loading.size === 0) this.onChange();
      });
  }

  *paint(pixels: Uint32Array, width: number, height: number, sight: Sight): Generator<void, void> {
    const { index, colours, by, shown } = this;
    const scale = sight.ratio / sight.resolution;
    const [west, south, east, north] = groundOf(sight);
    const ground: [number, number, number, number] = [
      west + this.origin[0],
      south + this.origin[1],
      east + this.origin[0],
      north + this.origin[1],
    ];
    const dx = index.west - ground[0];
    const dy = ground[3] - index.south;
    const [low, high] = by === "intensity" ? [0, 40_000] : this.range;
    const steps = 255 / Math.max(high - low, 1e-6);
    const side = Math.round((sight.resolution > 4 ? 1 : sight.resolution > 0.7 ? 2 : 3) * sight.ratio);
    const visible = Array.from({ length: 256 }, (_, code) => shown(code));
    for (const number of squaresFor(index, ground, sight.resolution)) {
      const data = this.held.get(number);
      if (!data) {
        this.fetch(number);
        continue;
      }
      const count = data.byteLength / RECORD;
      for (let i = 0; i < count; i++) {
        if (i % 4000 === 3999) yield;
        const at = i * RECORD;
        const code = data.getUint8(at + 12);
        if (!visible[code]) continue;
        const px = ((data.getFloat32(at, true) + dx) * scale) | 0;
        const py = ((dy - data.getFloat32(at + 4, true)) * scale) | 0;
        if (px < 0 || py < 0 || px >= width - side || py >= height - side) continue;
        let colour: number;
        if (by === "class") colour = code;
        else if (by === "return") colour = data.getUint8(at + 13);
        else {
          const value = by === "height" ? data.getFloat32(at + 8, true) : data.getUint16(at + 14, true);
          colour = Math.min(Math.max((value - low) * steps, 0), 255) | 0;
        }
        const ink = colours[colour] as number;
        for (let r = 0; r < side; r++) for (let c = 0; c < side; c++) pixels[(py + r) * width + px + c] = ink;
      }
      yield;
    }
  }
}
