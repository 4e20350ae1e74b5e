import Feature from "ol/Feature";
import { LineString, Polygon } from "ol/geom";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import { useEffect } from "react";
import type { Grid } from "../api/client";
import { useDesk } from "../desk/store";
import { areaMark, footStyle } from "./featuresLayer";
import { originOf } from "./surfaceLayer";

/** Footprints of tiles while they are chosen, and the area that is asked for. */
export function useFeet(map: OlMap | null, grid: Grid): void {
  const feet = useDesk((desk) => desk.feet);
  const area = useDesk((desk) => desk.area);
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || (!feet.length && !area)) return;
    const place = (ring: [number, number][]) => ring.map(([x, y]) => [x - west, y - south]);
    const prints = feet.map((foot) => {
      const feature = new Feature({ geometry: new Polygon([place(foot.ring)]), foot: foot.name });
      feature.setStyle((_, resolution) => footStyle(foot.look, foot.name, foot.word, resolution));
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
  }, [map, feet, area, west, south]);
}
