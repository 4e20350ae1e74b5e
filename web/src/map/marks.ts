import type { FeatureLike } from "ol/Feature";
import type Polygon from "ol/geom/Polygon";
import { Circle, Fill, Stroke, Style, Text } from "ol/style";
import { num } from "../desk/format";
import type { Footprint, Outlined } from "../desk/overlays";
import { RAMPS } from "./ramps";

const halo = new Stroke({ color: "rgba(252,251,247,0.85)", width: 3 });
const ink = new Fill({ color: "#1F2A30" });
const FIGURES = '500 10.5px "Spline Sans Mono Variable"';

/** The dashed border of a preview. */
export const previewBorder = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.9)", width: 3 }) }),
  new Style({ stroke: new Stroke({ color: "#1F2A30", width: 1.6, lineDash: [5, 4] }) }),
];

/** A pinned reading. */
export const pinMark = (label: string) =>
  new Style({
    image: new Circle({
      radius: 4,
      fill: new Fill({ color: "#FCFBF7" }),
      stroke: new Stroke({ color: "#1F2A30", width: 1.5 }),
    }),
    text: new Text({
      text: label,
      offsetX: 10,
      offsetY: 10,
      font: '500 11px "Spline Sans Mono Variable"',
      fill: ink,
      stroke: halo,
    }),
  });

/** A place a finding speaks of. */
export const placeMark = new Style({
  image: new Circle({ radius: 7, stroke: new Stroke({ color: "#9A6B00", width: 2 }) }),
});

const ERRORS = [-0.6, -0.2, 0.2, 0.6]; // between the colours of the ramp of differences
const errorMarks = (RAMPS.Seesaw ?? []).map(
  ([, colour]) =>
    new Style({
      image: new Circle({
        radius: 2.6,
        fill: new Fill({ color: colour }),
        stroke: new Stroke({ color: "rgba(31,42,48,0.75)", width: 0.6 }),
      }),
    }),
);
const nothingMark = new Style({
  image: new Circle({ radius: 2.2, stroke: new Stroke({ color: "rgba(31,42,48,0.7)", width: 0.8 }) }),
});

/** An error at a point, by its share of the size at which the colour is full. */
export function errorMark(share: number | null): Style {
  if (share === null) return nothingMark;
  return errorMarks[ERRORS.filter((end) => share >= end).length] ?? nothingMark;
}

/** The rim of a hole. */
export function rimMark(): Style[] {
  return [
    new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.9)", width: 4 }) }),
    new Style({ stroke: new Stroke({ color: "#9A6B00", width: 2 }), fill: new Fill({ color: hatch("#9A6B00") }) }),
  ];
}

/** A line in a colour of its own. */
export const inkedMark = (ink: string, width = 2, dashed = false): Style[] => [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.9)", width: width + 2 }) }),
  new Style({ stroke: new Stroke({ color: ink, width, lineDash: dashed ? [7, 5] : undefined }) }),
];

/** Lines aslant, for what is empty. */
function hatch(colour: string): CanvasPattern | string {
  const tile = document.createElement("canvas");
  tile.width = tile.height = 6;
  const context = tile.getContext("2d");
  if (!context) return "transparent";
  context.strokeStyle = colour;
  context.lineWidth = 1;
  context.beginPath();
  for (const shift of [-6, 0, 6]) {
    context.moveTo(shift, 6);
    context.lineTo(shift + 6, 0);
  }
  context.stroke();
  return context.createPattern(tile, "repeat") ?? "transparent";
}

/** A point of a table that is not taken in yet. */
export const dotMark = new Style({
  image: new Circle({
    radius: 2,
    fill: new Fill({ color: "#1B6470" }),
    stroke: new Stroke({ color: "#FCFBF7", width: 0.8 }),
  }),
});

/** The place on a profile under the pointer. */
export const spotMark = new Style({
  image: new Circle({
    radius: 6,
    fill: new Fill({ color: "#1F2A30" }),
    stroke: new Stroke({ color: "#FCFBF7", width: 2 }),
  }),
  zIndex: 1,
});

/** The area asked for. */
export const areaMark = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.9)", width: 4 }) }),
  new Style({ stroke: new Stroke({ color: "#1B6470", width: 2 }) }),
];

const FOOT: Record<Footprint["look"], { stroke: string; fill: string; dash?: number[] }> = {
  chosen: { stroke: "#1B6470", fill: "rgba(27,100,112,0.14)" },
  open: { stroke: "rgba(31,42,48,0.55)", fill: "rgba(252,251,247,0.10)" },
  received: { stroke: "#1F2A30", fill: "rgba(31,42,48,0)" },
  arriving: { stroke: "#1F2A30", fill: "rgba(252,251,247,0.35)", dash: [3, 3] },
  failed: { stroke: "#9C2B2B", fill: "rgba(156,43,43,0.14)", dash: [4, 3] },
};

/** A tile's footprint by how it stands, with its name and a word on it. */
export function footprintStyle({ look, name, word }: Footprint, resolution: number): Style[] {
  const { stroke, fill, dash } = FOOT[look];
  const label = (
    text: string,
    offsetY: number,
    font: string,
    colour: string,
    at?: (f: FeatureLike) => Polygon | undefined,
  ) =>
    new Style({
      geometry: at,
      text: new Text({ text, font, offsetY, fill: new Fill({ color: colour }), stroke: halo, overflow: false }),
    });
  const styles = [
    new Style({
      stroke: new Stroke({ color: stroke, width: look === "open" ? 1 : 1.6, lineDash: dash }),
      fill: new Fill({ color: fill }),
    }),
  ];
  if (resolution < 22) styles.push(label(name, word ? -8 : 0, FIGURES, "#1F2A30"));
  if (word)
    styles.push(
      label(
        word,
        resolution < 22 ? 9 : 0,
        '600 11.5px "Instrument Sans Variable"',
        look === "failed" ? "#9C2B2B" : "#1B6470",
      ),
    );
  return styles;
}

/** Radians that a line may turn from one letter to the next where a label stands along it: letters would lie over each other. */
export const BEND = Math.PI / 10;

/** A contour: index lines are heavier, and bear their height where a unit is given. */
export function contourMark(figure: number | null, index: boolean, unit: string | null): Style {
  return new Style({
    stroke: new Stroke({ color: index ? "rgba(31,42,48,0.9)" : "rgba(31,42,48,0.6)", width: index ? 1.5 : 0.7 }),
    text:
      index && figure !== null && unit !== null
        ? new Text({
            keepUpright: true,
            maxAngle: BEND,
            text: `${num(figure, Number.isInteger(figure) ? 0 : 1)}\u202f${unit}`,
            placement: "line",
            font: FIGURES,
            fill: ink,
            stroke: new Stroke({ color: "rgba(252,251,247,0.92)", width: 3 }),
          })
        : undefined,
  });
}

const edge = (color: string, width: number, lineDash?: number[]) =>
  new Style({ stroke: new Stroke({ color, width, lineDash }) });

/** Sloping facets are thin ink; level ones stand out, and those that are left out are dashed. */
export const facetMarks = {
  sloping: edge("rgba(31,42,48,0.55)", 0.8),
  level: edge("#9A6B00", 2),
  left_out: edge("rgba(156,43,43,0.75)", 1, [4, 4]),
};

/** How an outline is stroked. */
export const PATCH: Record<Outlined["look"], { colour: string; width: number; dash?: number[] }> = {
  chosen: { colour: "#1B6470", width: 2.4 },
  patch: { colour: "#1F2A30", width: 1.3 },
  off: { colour: "rgba(31,42,48,0.6)", width: 1, dash: [2, 4] },
  wrong: { colour: "#9C2B2B", width: 1.6, dash: [6, 3] },
  "kept out": { colour: "#1F2A30", width: 1.8, dash: [5, 4] },
};
const NARROW = 3; // pixels below which a line's width is not drawn

/** The outline of a patch or a keep-out with its name; of a line also the band it covers. pixels: to a metre of ground. */
export function patchStyle({ look, title, width }: Outlined, pixels: number): Style[] {
  const { colour, width: stroke, dash } = PATCH[look];
  const wide = width === null ? 0 : width * pixels;
  const styles = [
    new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.85)", width: stroke + 2, lineDash: dash }) }),
    new Style({ stroke: new Stroke({ color: colour, width: stroke, lineDash: dash }) }),
  ];
  if (wide > NARROW)
    styles.unshift(
      new Style({ stroke: new Stroke({ color: "rgba(31,42,48,0.45)", width: wide + 2, lineCap: "butt" }) }),
      new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.35)", width: wide, lineCap: "butt" }) }),
    );
  if (look !== "chosen")
    styles.push(
      new Style({
        text: new Text({
          text: title,
          font: '500 11.5px "Instrument Sans Variable"',
          fill: ink,
          stroke: halo,
          overflow: true,
        }),
      }),
    );
  return styles;
}

/** Something suspect, with its number; the one that is looked at is crossed by hairs. */
export const suspectMark = (number: number, here: boolean) => [
  new Style({
    image: new Circle({ radius: here ? 12 : 8, stroke: new Stroke({ color: "rgba(252,251,247,0.9)", width: 4 }) }),
  }),
  new Style({
    image: new Circle({ radius: here ? 12 : 8, stroke: new Stroke({ color: "#1F2A30", width: here ? 2 : 1.4 }) }),
    text: new Text({
      text: String(number),
      offsetX: here ? 20 : 15,
      offsetY: -8,
      font: FIGURES,
      fill: ink,
      stroke: halo,
    }),
  }),
];

/** A place of which something is said, in words on paper beside it. */
export const toldMark = (colour: string, words: string) =>
  new Style({
    image: new Circle({ radius: 8, stroke: new Stroke({ color: colour, width: 2.4 }), declutterMode: "none" }),
    text: new Text({
      text: words,
      textAlign: "left",
      offsetX: 15,
      offsetY: -9,
      padding: [3, 5, 2, 5],
      font: FIGURES,
      fill: ink,
      backgroundFill: new Fill({ color: "#FCFBF7" }),
      backgroundStroke: new Stroke({ color: colour, width: 1.2 }),
    }),
  });
