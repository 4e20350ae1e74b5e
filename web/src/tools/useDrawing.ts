import type LineString from "ol/geom/LineString";
import type Polygon from "ol/geom/Polygon";
import Draw, { createBox } from "ol/interaction/Draw";
import type OlMap from "ol/Map";
import { useEffect } from "react";
import { toolOf, useDesk } from "../desk/store";
import { areaMark } from "../map/marks";
import type { Space } from "../map/space";
import type { Tool } from "./tool";

type Drawing = Extract<Tool, { kind: "area" | "line" | "box" | "freehand" | "brush" }>;
const isDrawn = (tool: Tool): tool is Drawing => DRAWN.has(tool.kind);

const TREMBLE = 1.5; // pixels
const CLOSES = 5; // pixels from the first place, or the last, at which a click ends a drawing
const SETTLING = 350; // milliseconds in which the click that ends a drawing is not also a click on the map

const DRAWN = new Set(["area", "line", "box", "freehand", "brush"]);

/** Drawing an area or a line: a corner with each click, the last one with two; a box or a freehand outline with a drag. */
export function useDrawing(map: OlMap | null, space: Space): void {
  const tool = useDesk(toolOf);
  useEffect(() => {
    if (!map || !isDrawn(tool)) return;
    const line = tool.kind === "line" || tool.kind === "brush";
    const draw = new Draw({
      ...(tool.kind === "box"
        ? { type: "Circle", geometryFunction: createBox(), freehand: true }
        : { type: line ? "LineString" : "Polygon", freehand: tool.kind === "freehand" || tool.kind === "brush" }),
      style: areaMark,
      stopClick: true,
      snapTolerance: CLOSES,
    });
    draw.on("drawend", (event) => {
      const byHand = tool.kind === "freehand" || tool.kind === "brush";
      const traced = event.feature.getGeometry();
      // a hand's tremble is no vertex
      const shape = byHand ? traced?.simplify((map.getView().getResolution() ?? 1) * TREMBLE) : traced;
      const drawn = line
        ? (shape as LineString).getCoordinates()
        : ((shape as Polygon).getCoordinates()[0] ?? []).slice(0, -1);
      if (tool.kind !== "brush") window.setTimeout(() => useDesk.getState().drop(tool.owner), SETTLING);
      if (drawn.length > (line ? 1 : 2)) tool.done(drawn.map(space.toPlace));
    });
    map.addInteraction(draw);
    return () => {
      map.removeInteraction(draw);
    };
  }, [map, tool, space]);
}
