import type Polygon from "ol/geom/Polygon";
import Draw from "ol/interaction/Draw";
import type OlMap from "ol/Map";
import { useEffect } from "react";
import type { Grid } from "../api/client";
import { useDesk } from "../desk/store";
import { areaMark } from "./featuresLayer";
import { originOf } from "./surfaceLayer";

/** Drawing an area: a corner with each click, the last one with two; Esc leaves. */
export function useDrawing(map: OlMap | null, grid: Grid): void {
  const drawing = useDesk((desk) => desk.drawing);
  const set = useDesk((desk) => desk.set);
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || !drawing) return;
    const draw = new Draw({ type: "Polygon", style: areaMark, stopClick: true });
    draw.on("drawend", (event) => {
      const ring = (event.feature.getGeometry() as Polygon).getCoordinates()[0] ?? [];
      const area = ring.slice(0, -1).map(([x = 0, y = 0]) => [x + west, y + south] as [number, number]);
      // the click that ends the drawing is not also a click on the map
      window.setTimeout(() => set({ drawing: false }), 350);
      if (area.length > 2) set({ area });
    });
    const leave = (event: KeyboardEvent) => event.key === "Escape" && set({ drawing: false });
    map.addInteraction(draw);
    window.addEventListener("keydown", leave);
    return () => {
      map.removeInteraction(draw);
      window.removeEventListener("keydown", leave);
    };
  }, [map, drawing, set, west, south]);
}
