import type { FeatureLike } from "ol/Feature";
import GeoJSON from "ol/format/GeoJSON";
import VectorLayer from "ol/layer/Vector";
import VectorSource from "ol/source/Vector";
import { Circle, Fill, Stroke, Style, Text } from "ol/style";

const halo = new Stroke({ color: "rgba(252,251,247,0.85)", width: 3 });
const ink = new Fill({ color: "#1F2A30" });

const coast = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.45)", width: 2.5 }) }),
  new Style({ stroke: new Stroke({ color: "rgba(31,42,48,0.85)", width: 1 }) }),
];

function styleOf(feature: FeatureLike, resolution: number): Style | Style[] | undefined {
  const name = String(feature.get("name") ?? "");
  switch (feature.get("kind")) {
    case "coast":
      return coast;
    case "water":
      return new Style({ stroke: new Stroke({ color: "#17343D", width: 1 }) });
    case "river":
      return new Style({
        stroke: new Stroke({ color: "#1D4752", width: 1.5 }),
        text: new Text({
          text: name,
          placement: "line",
          font: '500 11.5px "Instrument Sans Variable"',
          fill: ink,
          stroke: halo,
          overflow: false,
        }),
      });
    case "place":
      return resolution > 40
        ? undefined
        : new Style({
            text: new Text({ text: name, font: '500 12px "Instrument Sans Variable"', fill: ink, stroke: halo }),
          });
    default:
      return new Style({ stroke: new Stroke({ color: "#1F2A30", width: 1 }) });
  }
}

/** Coast, water, rivers and place names, with halos that keep them legible on any ground. */
export function featuresLayer(collection: object, [west, south]: [number, number]): VectorLayer {
  const features = new GeoJSON().readFeatures(collection);
  for (const feature of features) feature.getGeometry()?.translate(-west, -south);
  const source = new VectorSource({ features });
  return new VectorLayer({ source, style: styleOf, declutter: true });
}

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
