import type { FeatureLike } from "ol/Feature";
import GeoJSON from "ol/format/GeoJSON";
import VectorLayer from "ol/layer/Vector";
import VectorSource from "ol/source/Vector";
import { Fill, Stroke, Style, Text } from "ol/style";
import { num } from "../desk/format";
import { type Dress, passes } from "./dress";
import { labelsAt } from "./labelled";
import { BEND } from "./marks";

const halo = new Stroke({ color: "rgba(252,251,247,0.85)", width: 3 });
const ink = new Fill({ color: "#1F2A30" });
const TEXT = '500 12px "Instrument Sans Variable"';
const LINE_TEXT = '500 11.5px "Instrument Sans Variable"';
const FIGURES = '500 10.5px "Spline Sans Mono Variable"';

function labelOf(feature: FeatureLike, dress: Dress, indexed: boolean): string {
  const kind = feature.get("kind");
  if (kind === "coast") return ""; // a name along the whole shore says nothing
  if (kind === "line" && indexed) return ""; // index lines bear the heights
  const value = feature.get(dress.label);
  if (value === null || value === undefined || value === "") return "";
  const text = typeof value === "number" ? num(value, Number.isInteger(value) ? 0 : 1) : String(value);
  return dress.unit ? `${text}\u202f${dress.unit}` : text;
}

/** Styles are kept by what they depend on. Where there are index lines these alone bear labels, and not all
 * of them where they are many. */
function styler(dress: Dress, source: VectorSource | null) {
  const index = source?.getFeatures().filter((feature) => feature.get("kind") === "index") ?? [];
  const indexed = index.length > 0;
  const bear = labelsAt(index.map((feature) => feature.get(dress.label)).filter((value) => typeof value === "number"));
  const made = new Map<string, Style>();
  return (feature: FeatureLike, resolution: number): Style | undefined => {
    if (!dress.label || resolution > dress.labelFrom) return undefined;
    if (!passes(dress.filter, (column) => feature.get(column))) return undefined;
    const label = labelOf(feature, dress, indexed);
    if (!label) return undefined;
    const height = feature.get(dress.label);
    if (indexed && typeof height === "number" && !bear(height, resolution)) return undefined;
    const type = feature.getGeometry()?.getType() ?? "LineString";
    const line = type.includes("LineString");
    const place = feature.get("kind") === "place";
    const figures = typeof feature.get(dress.label) === "number";
    const key = `${label}|${type}|${place}`;
    const known = made.get(key);
    if (known) return known;
    const style = new Style({
      text: new Text({
        text: label,
        placement: line ? "line" : "point",
        font: figures ? FIGURES : line ? LINE_TEXT : TEXT,
        fill: ink,
        stroke: halo,
        overflow: false,
        maxAngle: BEND,
        offsetY: type === "Point" && !place ? -10 : 0,
      }),
    });
    made.set(key, style);
    return style;
  };
}

/** Names and figures of features, with halos that keep them legible on any ground. */
export function labelsLayer(collection: object, [west, south]: [number, number], dress: Dress): VectorLayer {
  const features = new GeoJSON().readFeatures(collection);
  for (const feature of features) feature.getGeometry()?.translate(-west, -south);
  const source = new VectorSource({ features });
  const style = styler(dress, source);
  return new VectorLayer({ source, style, declutter: true, updateWhileInteracting: false });
}

export const redress = (layer: VectorLayer, dress: Dress) => layer.setStyle(styler(dress, layer.getSource()));
