import type Feature from "ol/Feature";
import { defaults as interactions } from "ol/interaction/defaults";
import VectorLayer from "ol/layer/Vector";
import OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import type View from "ol/View";
import { useEffect, useRef, useState } from "react";
import type { Grid, ImageHolding } from "../api/client";
import { useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { stopsOf } from "../map/ramps";
import type { Place } from "../map/shapes";
import type { Space } from "../map/space";
import { styleOf } from "../map/style";
import { type SurfaceLayer, surfaceLayer } from "../map/surfaceLayer";

/** An image as a grid of cells of 1: columns run right, rows down. */
export const gridOf = (image: ImageHolding): Grid => ({
  crs: `image ${image.id}`,
  west: 0,
  north: image.image.rows,
  cell_width: 1,
  cell_height: 1,
  rows: image.image.rows,
  cols: image.image.cols,
});

/** The space of an image: places are columns and rows, whole numbers at the middle of cells. */
export const imageSpace = (rows: number): Space => ({
  toPane: ([col = 0, row = 0]) => [col + 0.5, rows - 0.5 - row],
  toPlace: ([x = 0, y = 0]) => [x - 0.5, rows - 0.5 - y],
});

interface Props {
  image: ImageHolding;
  view: View;
  label: string;
  /** What is drawn over it, in the pane's coordinates. */
  marks: Feature[];
  /** Whether the pointer may move and scale it; else it follows. */
  moves: boolean;
  onPoint?: (at: Place | null) => void;
  onPress?: (at: Place) => void;
}

/** One of the two images: its cells, marks over them, and where the pointer is. */
export function ImagePane({ image, view, label, marks, moves, onPoint, onPress }: Props) {
  const project = useProject();
  const element = useRef<HTMLDivElement>(null);
  const [map, setMap] = useState<OlMap | null>(null);
  const layer = useRef<SurfaceLayer | null>(null);
  const over = useRef(new VectorSource());
  const look = useDesk((desk) => desk.looks.grey);
  const light = useDesk((desk) => desk.light);
  const heard = useRef({ onPoint, onPress });
  heard.current = { onPoint, onPress };

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
    const space = imageSpace(image.image.rows);
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
  }, [view, moves, image.image.rows]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: a changed look styles the layer anew and loads nothing
  useEffect(() => {
    if (!map) return;
    const path = (key: string, level: number, col: number, row: number) =>
      `/projects/${project.id}/images/${key}/tiles/${level}/${col}/${row}`;
    const made = surfaceLayer(path, String(image.id), gridOf(image), look, "grey", false, light);
    layer.current = made;
    map.addLayer(made);
    return () => {
      map.removeLayer(made);
      made.dispose();
      layer.current = null;
    };
  }, [map, image.id, project.id]);

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
  }, [map, low, high, stops, image.id]);

  useEffect(() => {
    over.current.clear(true);
    over.current.addFeatures(marks);
  }, [marks]);

  return <div ref={element} className="pane" role="application" aria-label={label} style={{ cursor: "crosshair" }} />;
}
