import type Feature from "ol/Feature";
import Snap from "ol/interaction/Snap";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";

const REACH = 9; // pixels

/** Whether a place, in the pane's coordinates, is in view. */
export type InView = (place: number[]) => boolean;

/** Lets what is drawn on a map snap to lines in view, which `gather` gives; returns what ends that. It is asked for after the
 * interaction that draws. */
export function snapOn(map: OlMap, gather: (inView: InView) => Feature[]): () => void {
  const source = new VectorSource();
  const snap = new Snap({ source, pixelTolerance: REACH });
  const renew = () => {
    const [left = 0, bottom = 0, right = 0, top = 0] = map.getView().calculateExtent(map.getSize());
    source.clear();
    source.addFeatures(gather(([x = 0, y = 0]) => x >= left && x <= right && y >= bottom && y <= top));
  };
  renew();
  map.addInteraction(snap);
  map.on("moveend", renew);
  return () => {
    map.un("moveend", renew);
    map.removeInteraction(snap);
  };
}
