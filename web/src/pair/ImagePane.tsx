import type Feature from "ol/Feature";
import { defaults as interactions } from "ol/interaction/defaults";
import Pointer from "ol/interaction/Pointer";
import VectorLayer from "ol/layer/Vector";
import OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import type View from "ol/View";
import { useEffect, useRef, useState } from "react";
import { useDesk } from "../desk/store";
import { stopsOf } from "../map/ramps";
import type { Place } from "../map/shapes";
import { styleOf } from "../map/style";
import { type SurfaceLayer, surfaceLayer } from "../map/surfaceLayer";
import type { Shown } from "./plane";

interface Props {
  shown: Shown;
  view: View;
  label: string;
  /** What is drawn over it, in the pane's coordinates. */
  marks: Feature[];
  /** Whether the pointer may move and scale it; else it follows. */
  moves: boolean;
  onPoint?: (at: Place | null) => void;
  onPress?: (at: Place) => void;
  /** Whether a drag that begins at a place moves what is there instead of the image; then where it is dragged, and whether it
   * is over. */
  holds?: (at: Place) => boolean;
  onDrag?: (at: Place, over: boolean) => void;
}

/** One of the two images: its cells, marks over them, and where the pointer is. */
export function ImagePane({ shown, view, label, marks, moves, ...ways }: Props) {
  const element = useRef<HTMLDivElement>(null);
  const [map, setMap] = useState<OlMap | null>(null);
  const layer = useRef<SurfaceLayer | null>(null);
  const over = useRef(new VectorSource());
  const look = useDesk((desk) => desk.looks.grey);
  const light = useDesk((desk) => desk.light);
  const heard = useRef(ways);
  heard.current = ways;
  const { space, name } = shown;

  useEffect(() => {
    if (!element.current) return;
    const made = new OlMap({
      target: element.current,
      view,
      controls: [],
      interactions: moves ? interactions({ altShiftDragRotate: false, pinchRotate: false }) : [],
      layers: [
        new VectorLayer({ source: over.current, zIndex: 10, updateWhileAnimating: true, updateWhileInteracting: true }),
      ],
    });
    if (moves)
      made.addInteraction(
        new Pointer({
          handleDownEvent: ({ coordinate }) => heard.current.holds?.(space.toPlace(coordinate)) ?? false,
          handleDragEvent: ({ coordinate }) => heard.current.onDrag?.(space.toPlace(coordinate), false),
          handleUpEvent: ({ coordinate }) => {
            heard.current.onDrag?.(space.toPlace(coordinate), true);
            return false;
          },
        }),
      );
    made.on("pointermove", (event) => {
      if (!event.dragging) heard.current.onPoint?.(space.toPlace(event.coordinate));
    });
    made.on("singleclick", (event) => {
      const press = made.forEachFeatureAtPixel(event.pixel, (one) => one.get("press") as (() => void) | undefined);
      if (press) press();
      else heard.current.onPress?.(space.toPlace(event.coordinate));
    });
    const leave = () => heard.current.onPoint?.(null);
    made.getViewport()?.addEventListener("pointerleave", leave);
    setMap(made);
    return () => {
      made.setTarget(undefined);
      made.dispose();
      setMap(null);
    };
  }, [view, moves, space]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: a changed look styles the layer anew and loads nothing
  useEffect(() => {
    if (!map) return;
    const made = surfaceLayer(shown.path, name, shown.grid, look, "grey", false, light);
    layer.current = made;
    map.addLayer(made);
    return () => {
      map.removeLayer(made);
      made.dispose();
      layer.current = null;
    };
  }, [map, name]);

  const stops = JSON.stringify(stopsOf(look));
  // biome-ignore lint/correctness/useExhaustiveDependencies: the stops stand for the look's colours
  useEffect(() => {
    layer.current?.setStyle(styleOf(look, "grey", false, light));
  }, [stops]);
  const [low, high] = look.range;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another layer or colours need their range too
  useEffect(() => {
    layer.current?.updateStyleVariables({
      low,
      high: Math.max(high, low + 1e-6),
      cell: 1,
      rise: 1,
      under: -1e8,
      over: 1e8,
    });
    map?.render();
  }, [map, low, high, stops, name]);

  useEffect(() => {
    over.current.clear(true);
    over.current.addFeatures(marks);
  }, [marks]);

  return <div ref={element} className="pane" role="application" aria-label={label} style={{ cursor: "crosshair" }} />;
}
