import type LineString from "ol/geom/LineString";
import type Polygon from "ol/geom/Polygon";
import Draw from "ol/interaction/Draw";
import type OlMap from "ol/Map";
import { useEffect } from "react";
import type { Grid } from "../api/client";
import { useDesk } from "../desk/store";
import { areaMark } from "./featuresLayer";
import { originOf } from "./surfaceLayer";

/** Drawing an area, or a line for a profile: a corner with each click, the last one with two; Esc leaves. */
export function useDrawing(map: OlMap | null, grid: Grid): void {
  const tracing = useDesk((desk) => desk.tracing);
  const drawing = useDesk((desk) => desk.drawing) || tracing;
  const set = useDesk((desk) => desk.set);
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || !drawing) return;
    const draw = new Draw({ type: tracing ? "LineString" : "Polygon", style: areaMark, stopClick: true });
    const placed = (line: number[][]) => line.map(([x = 0, y = 0]) => [x + west, y + south] as [number, number]);
    draw.on("drawend", (event) => {
      // the click that ends the drawing is not also a click on the map
      window.setTimeout(() => set({ drawing: false, tracing: false }), 350);
      const shape = event.feature.getGeometry();
      if (tracing) {
        const line = placed((shape as LineString).getCoordinates());
        if (line.length > 1) set({ line });
        return;
      }
      const area = placed(((shape as Polygon).getCoordinates()[0] ?? []).slice(0, -1));
      if (area.length > 2) set({ area });
    });
    const leave = (event: KeyboardEvent) => event.key === "Escape" && set({ drawing: false, tracing: false });
    map.addInteraction(draw);
    window.addEventListener("keydown", leave);
    return () => {
      map.removeInteraction(draw);
      window.removeEventListener("keydown", leave);
    };
  }, [map, drawing, tracing, set, west, south]);
}
