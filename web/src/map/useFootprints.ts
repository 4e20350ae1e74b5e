import Feature from "ol/Feature";
import { LineString, Polygon } from "ol/geom";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import { useEffect } from "react";
import type { Grid } from "../api/client";
import { useDesk } from "../desk/store";
import { areaMark, footprintStyle } from "./featuresLayer";
import { originOf } from "./surfaceLayer";

/** Footprints of tiles while they are chosen, and the area that is asked for. */
export function useFootprints(map: OlMap | null, grid: Grid): void {
  const footprints = useDesk((desk) => desk.footprints);
  const area = useDesk((desk) => desk.area);
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || (!footprints.length && !area)) return;
    const place = (ring: [number, number][]) => ring.map(([x, y]) => [x - west, y - south]);
    const prints = footprints.map((print) => {
      const feature = new Feature({ geometry: new Polygon([place(print.ring)]), footprint: print.name });
      feature.setStyle((_, resolution) => footprintStyle(print.look, print.name, print.word, resolution));
      return feature;
    });
    const layer = new VectorLayer({ source: new VectorSource({ features: prints }), zIndex: 58, declutter: true });
    map.addLayer(layer);
    const outline = new VectorLayer({
      source: new VectorSource({
        features: area ? [new Feature(new LineString(place([...area, area[0] ?? [0, 0]])))] : [],
      }),
      style: areaMark,
      zIndex: 59,
    });
    map.addLayer(outline);
    return () => {
      map.removeLayer(layer);
      map.removeLayer(outline);
    };
  }, [map, footprints, area, west, south]);
}
