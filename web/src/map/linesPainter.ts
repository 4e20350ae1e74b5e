import { type Dress, inkOf, passes } from "./dress";
import { coloursOf, countsOf, REST } from "./kinds";
import { type Collection, linesOf, type Position } from "./shapes";
import { groundOf, type Sight } from "./slicedLayer";

interface Part {
  properties: Record<string, unknown>;
  /** x, y, x, y... from the map's corner. */
  places: Float64Array;
  kind: "point" | "line" | "area";
  /** Metres along it. */
  length: number;
  box: [number, number, number, number];
}

/** Every line, ring and point of a collection by itself, placed from the map's corner. */
export function partsOf(collection: Collection, [west, south]: [number, number]): Part[] {
  const parts: Part[] = [];
  const add = (properties: Part["properties"], kind: Part["kind"], positions: Position[]) => {
    const places = new Float64Array(positions.length * 2);
    const box: Part["box"] = [Infinity, Infinity, -Infinity, -Infinity];
    let length = 0;
    positions.forEach(([x = 0, y = 0], i) => {
      places[2 * i] = x - west;
      places[2 * i + 1] = y - south;
      box[0] = Math.min(box[0], x - west);
      box[1] = Math.min(box[1], y - south);
      box[2] = Math.max(box[2], x - west);
      box[3] = Math.max(box[3], y - south);
      const [px = x, py = y] = positions[i - 1] ?? [];
      length += Math.hypot(x - px, y - py);
    });
    parts.push({ properties, places, kind, length, box });
  };
  for (const { properties, geometry } of collection.features) {
    const kind = geometry.type.includes("Polygon") ? "area" : geometry.type.includes("Line") ? "line" : "point";
    for (const line of linesOf(geometry)) add(properties, kind, line);
  }
  return parts;
}

const PIECE = 400; // vertices between two looks at the clock
const NEAR = 0.7; // pixels below which a vertex adds nothing

const COVERING = "8C"; // opacity of areas in colours of what stands in a column: relief shows through

const DENSE = 0.1; // pixels of line a pixel of the map, above which lines only darken it
const FAINTEST = 0.25;

/** How strongly lines are drawn: fainter where they lie so close, on the whole, that they would hide the ground. */
export function strengthOf(metres: number, { width, height, resolution }: Sight): number {
  const share = metres / resolution / (width * height);
  return Math.max(Math.min(DENSE / Math.max(share, 1e-9), 1), FAINTEST);
}

/** Lines, rims of areas and plain points, as they are dressed. Their labels are drawn by another layer. */
export class LinesPainter {
  onChange: () => void = () => undefined;
  private parts: Part[];
  private dressed: Dress | null = null;
  /** By value, where lines and areas are coloured by a column. */
  private colours: Map<string, string> | null = null;
  private values: Collection;

  constructor(collection: Collection, origin: [number, number]) {
    this.parts = partsOf(collection, origin);
    this.values = collection;
  }

  dress(dress: Dress): void {
    this.dressed = dress;
    const { by, column } = dress;
    this.colours =
      by === "column" ? coloursOf(countsOf(this.values.features.map(({ properties }) => properties[column]))) : null;
    this.onChange();
  }

  *paint(context: CanvasRenderingContext2D, sight: Sight): Generator<void, void> {
    const { dressed } = this;
    if (!dressed) return;
    const [west, south, east, north] = groundOf(sight);
    const scale = sight.ratio / sight.resolution;
    let count = 0;
    context.lineJoin = "round";
    const inSight = this.parts.filter(
      ({ properties, box }) =>
        box[0] <= east &&
        box[2] >= west &&
        box[1] <= north &&
        box[3] >= south &&
        passes(dressed.filter, (column) => properties[column]),
    );
    let metres = 0;
    for (const { kind, length, box } of inSight) {
      if (kind !== "line") continue;
      const [across, up] = [box[2] - box[0], box[3] - box[1]];
      const seenAcross = Math.min(box[2], east) - Math.max(box[0], west);
      const seenUp = Math.min(box[3], north) - Math.max(box[1], south);
      metres += length * (across > 0 ? seenAcross / across : 1) * (up > 0 ? seenUp / up : 1);
    }
    const strength = strengthOf(metres, sight);
    for (const { properties, places, kind } of inSight) {
      const colour = this.colours
        ? (this.colours.get(String(properties[dressed.column])) ?? REST)
        : inkOf(dressed, properties.kind);
      if (kind === "point") {
        if (properties.kind === "place") continue; // its name is enough
        context.beginPath();
        context.arc(
          ((places[0] as number) - west) * scale,
          (north - (places[1] as number)) * scale,
          3 * sight.ratio,
          0,
          7,
        );
        context.fillStyle = colour;
        context.fill();
        context.strokeStyle = "#FCFBF7";
        context.lineWidth = sight.ratio;
        context.stroke();
        if (++count % 50 === 0) yield;
        continue;
      }
      const path = new Path2D();
      let [lastX, lastY] = [Number.NaN, Number.NaN];
      const end = places.length - 2;
      for (let i = 0; i <= end; i += 2) {
        const x = ((places[i] as number) - west) * scale;
        const y = (north - (places[i + 1] as number)) * scale;
        if (i > 0 && i < end && Math.abs(x - lastX) < NEAR && Math.abs(y - lastY) < NEAR) continue;
        if (i === 0) path.moveTo(x, y);
        else path.lineTo(x, y);
        [lastX, lastY] = [x, y];
        count += 1;
      }
      if (kind === "area") {
        path.closePath();
        context.fillStyle = `${colour}${this.colours ? COVERING : "14"}`;
        context.fill(path);
      }
      context.globalAlpha = kind === "line" ? strength : 1;
      const width = dressed.width * (properties.kind === "index" ? 2 : 1);
      if (width > 1) {
        context.strokeStyle = "rgba(252,251,247,0.5)";
        context.lineWidth = (width + 1.5) * sight.ratio;
        context.stroke(path);
      }
      context.strokeStyle = colour;
      context.lineWidth = width * sight.ratio;
      context.stroke(path);
      context.globalAlpha = 1;
      if (count > PIECE) {
        count = 0;
        yield;
      }
    }
  }
}
