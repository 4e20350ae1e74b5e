import Feature from "ol/Feature";
import { LineString } from "ol/geom";
import VectorLayer from "ol/layer/Vector";
import { getRenderPixel } from "ol/render";
import type RenderEvent from "ol/render/Event";
import VectorSource from "ol/source/Vector";
import { Stroke, Style } from "ol/style";
import type { GraticuleLine } from "../api/client";
import type { Place } from "./shapes";

const FONT = '500 10.5px "Spline Sans Mono Variable"';
const RIM = 8; // pixels between the rim of the map and what stands along it
const CORNER = 128; // pixels at either end of the lower rim where scale and zoom stand, above which figures are lifted
const LIFT = 34;
const APART = 14; // pixels between figures that stand along one side

const style = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.45)", width: 2 }) }),
  new Style({ stroke: new Stroke({ color: "rgba(31,42,48,0.55)", width: 0.8 }) }),
];

/** Where a line first crosses x = at, or y = at for axis 1; null where it does not. */
export function crossing(line: Place[], axis: 0 | 1, at: number): Place | null {
  for (let i = 1; i < line.length; i++) {
    const [from, to] = [line[i - 1] as Place, line[i] as Place];
    const [low, high] = [from[axis], to[axis]];
    if (low === high || (low - at) * (high - at) > 0) continue;
    const share = (at - low) / (high - low);
    return [from[0] + share * (to[0] - from[0]), from[1] + share * (to[1] - from[1])];
  }
  return null;
}

/** Lines of equal coordinates, with their figures along the left and the lower rim of whatever pane they are drawn in. */
export function graticuleLayer(lines: GraticuleLine[], toPane: (place: Place) => Place): VectorLayer {
  const placed = lines.map(({ axis, text, places }) => {
    const line: Place[] = [];
    for (let i = 0; i < places.length; i += 2) line.push(toPane([places[i] as number, places[i + 1] as number]));
    return { axis, text, line };
  });
  const features = placed.map(({ line }) => new Feature(new LineString(line)));
  const layer = new VectorLayer({ source: new VectorSource({ features }), style, zIndex: 54 });
  layer.on("postrender", (event: RenderEvent) => {
    const context = event.context as CanvasRenderingContext2D;
    const { extent, viewState, pixelRatio, size } = event.frameState ?? {};
    if (!extent || !viewState || !pixelRatio || !size) return;
    const [west = 0, south = 0, , north = 0] = extent;
    const { resolution } = viewState;
    const words = (text: string, [x, y]: Place, align: CanvasTextAlign) => {
      const at = getRenderPixel(event, [(x - west) / resolution, (north - y) / resolution]);
      context.textAlign = align;
      context.strokeText(text, at[0] as number, at[1] as number);
      context.fillText(text, at[0] as number, at[1] as number);
    };
    context.save();
    context.font = FONT.replace("10.5px", `${10.5 * pixelRatio}px`);
    context.textBaseline = "bottom";
    context.lineJoin = "round";
    context.lineWidth = 3 * pixelRatio;
    context.strokeStyle = "rgba(252,251,247,0.9)";
    context.fillStyle = "#1F2A30";
    let last = Infinity;
    for (const { axis, text, line } of placed) {
      const rim = axis === "x" ? south + RIM * resolution : west + RIM * resolution;
      const at = crossing(line, axis === "x" ? 1 : 0, rim);
      if (!at) continue;
      if (axis === "x") {
        const across = (at[0] - west) / resolution;
        const lift = across < CORNER || across > (size[0] ?? 0) - CORNER ? LIFT * resolution : 0;
        words(text, [at[0], at[1] + lift], "center");
      } else if (Math.abs(at[1] - last) > APART * resolution) {
        words(text, [at[0], at[1] + 2 * resolution], "left");
        last = at[1];
      }
    }
    context.restore();
  });
  return layer;
}
