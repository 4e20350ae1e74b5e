import Feature from "ol/Feature";
import { LineString, Point, Polygon } from "ol/geom";
import { defaults as interactions } from "ol/interaction/defaults";
import VectorLayer from "ol/layer/Vector";
import OlMap from "ol/Map";
import type MapBrowserEvent from "ol/MapBrowserEvent";
import VectorSource from "ol/source/Vector";
import type Style from "ol/style/Style";
import type View from "ol/View";
import { useEffect, useRef, useState } from "react";
import type { Quantity } from "../api/client";
import { useProject } from "../desk/context";
import { metresIn } from "../desk/format";
import { useDesk } from "../desk/store";
import { areaMark, dotMark, errorMark, pinMark, placeMark, previewBorder, rimMark, spotMark } from "./featuresLayer";
import { stopsOf } from "./ramps";
import { isLit, lightOf, styleOf } from "./style";
import { drawnCell, originOf, riseAt, type SurfaceLayer, surfaceLayer } from "./surfaceLayer";
import { useTilePath } from "./tilePath";
import { useContours } from "./useContours";
import { useDrawing } from "./useDrawing";
import { useDressed } from "./useDressed";
import { useEditing } from "./useEditing";
import { useFacets, useFacetsInView } from "./useFacets";
import { useFootprints } from "./useFootprints";

/** A surface on this pane; `from` and `to` are the shares of the pane's width that it may draw on. */
export interface Drawn {
  id: string;
  key: string;
  quantity: Quantity;
  coarse: boolean;
  rough?: boolean;
  from: number;
  to: number;
}

const UNSEEN = 1e8; // levels no height reaches

interface Props {
  view: View;
  drawn: Drawn[];
  className?: string;
  label: string;
  onBusy?: (busy: boolean) => void;
  onPin: () => void;
}

/** One map: surfaces from the bottom up, then points, features and marks. */
export function MapPane({ view, drawn, className = "", label, onBusy, onPin }: Props) {
  const project = useProject();
  const metres = metresIn(project.frame.unit);
  const path = useTilePath(project);
  const grid = project.frame.grid;
  const [west, south] = originOf(grid);
  const looks = useDesk((desk) => desk.looks);
  const light = useDesk((desk) => desk.light);
  const levels = useDesk((desk) => desk.levels);
  const preview = useDesk((desk) => desk.preview);
  const places = useDesk((desk) => desk.places);
  const dots = useDesk((desk) => desk.dots);
  const errors = useDesk((desk) => desk.errors);
  const rims = useDesk((desk) => desk.rims);
  const seams = useDesk((desk) => desk.seams);
  const pinned = useDesk((desk) => desk.pinned);
  const set = useDesk((desk) => desk.set);
  const element = useRef<HTMLDivElement>(null);
  const pin = useRef(onPin);
  pin.current = onPin;
  const [map, setMap] = useState<OlMap | null>(null);

  useEffect(() => {
    if (!element.current) return;
    const made = new OlMap({
      target: element.current,
      view,
      controls: [],
      interactions: interactions({ altShiftDragRotate: false, pinchRotate: false }),
    });
    setMap(made);
    return () => {
      made.setTarget(undefined);
      made.dispose();
    };
  }, [view]);

  // -- pointer ------------------------------------------------------------------------------------------
  useEffect(() => {
    if (!map) return;
    let waiting = 0;
    let last: number[] | null = null;
    const show = () => {
      waiting = 0;
      if (last) set({ pointer: [last[0] ?? 0, last[1] ?? 0], overMap: true });
    };
    const move = (event: MapBrowserEvent) => {
      if (event.dragging) return;
      last = [(event.coordinate[0] ?? 0) + west, (event.coordinate[1] ?? 0) + south];
      waiting ||= window.setTimeout(show, 50);
    };
    const click = (event: MapBrowserEvent) => {
      const { drawing, tracing, editing, picking } = useDesk.getState();
      if (drawing || tracing || editing !== null) return;
      if (picking) {
        const [x = 0, y = 0] = event.coordinate;
        set({ clicked: { x: x + west, y: y + south, resolution: view.getResolution() ?? 1 } });
        return;
      }
      const footprint = map.forEachFeatureAtPixel(
        event.pixel,
        (feature) => feature.get("footprint") as string | undefined,
      );
      if (footprint) {
        set({ pressed: footprint });
        return;
      }
      set({ pointer: [(event.coordinate[0] ?? 0) + west, (event.coordinate[1] ?? 0) + south] });
      window.setTimeout(() => pin.current(), 0);
    };
    const leave = () => {
      window.clearTimeout(waiting);
      waiting = 0;
      set({ overMap: false });
    };
    const viewport = map.getViewport();
    viewport?.addEventListener("pointerleave", leave);
    map.on("pointermove", move);
    map.on("singleclick", click);
    return () => {
      window.clearTimeout(waiting);
      viewport?.removeEventListener("pointerleave", leave);
      map.un("pointermove", move);
      map.un("singleclick", click);
    };
  }, [map, view, set, west, south]);

  // -- loading ------------------------------------------------------------------------------------------
  useEffect(() => {
    if (!map || !onBusy) return;
    const start = () => onBusy(true);
    const end = () => onBusy(false);
    map.on("loadstart", start);
    map.on("loadend", end);
    return () => {
      map.un("loadstart", start);
      map.un("loadend", end);
    };
  }, [map, onBusy]);

  // -- surfaces -----------------------------------------------------------------------------------------
  const layers = useRef(new Map<string, { layer: SurfaceLayer; styled: string }>());
  const clips = useRef(new Map<string, { from: number; to: number; first: boolean }>());
  useEffect(() => {
    if (!map) return;
    const held = layers.current;
    // a shade comes with the tiles: with another the layer is another
    const nameOf = (one: (typeof drawn)[number]) =>
      `${one.id}:${one.key}:${isLit(one.quantity) ? light.shade : "none"}`;
    const wanted = new Set(drawn.map(nameOf));
    for (const [id, { layer }] of held) {
      if (wanted.has(id)) continue;
      map.removeLayer(layer);
      layer.dispose();
      held.delete(id);
    }
    drawn.forEach((one, order) => {
      const id = nameOf(one);
      const look = looks[one.quantity];
      const styled = JSON.stringify([stopsOf(look), one.quantity, light.several]);
      clips.current.set(id, { from: one.from, to: one.to, first: order === 0 });
      let entry = held.get(id);
      if (!entry) {
        const layer = surfaceLayer(path, one.key, grid, look, one.quantity, one.coarse, light, one.rough);
        layer.on("prerender", (event) => {
          const gl = event.context as WebGLRenderingContext;
          const { from, to, first } = clips.current.get(id) ?? { from: 0, to: 1, first: true };
          const { width, height } = gl.canvas;
          if (first) {
            // layers share one canvas, which the library clears only where the first of them may draw
            gl.disable(gl.SCISSOR_TEST);
            gl.clearColor(0, 0, 0, 0);
            gl.clear(gl.COLOR_BUFFER_BIT);
          }
          gl.enable(gl.SCISSOR_TEST);
          gl.scissor(Math.round(from * width), 0, Math.round(to * width) - Math.round(from * width), height);
        });
        layer.on("postrender", (event) => {
          const gl = event.context as WebGLRenderingContext;
          gl.disable(gl.SCISSOR_TEST);
        });
        entry = { layer, styled };
        held.set(id, entry);
        map.addLayer(layer);
      } else if (entry.styled !== styled) {
        entry.layer.setStyle(styleOf(look, one.quantity, one.coarse, light));
        entry.styled = styled;
      }
      entry.layer.setZIndex(order);
      const [low, high] = look.range;
      const cell = drawnCell(grid, view.getResolution() ?? grid.cell_width);
      const [under, over] = (one.quantity === "height" && levels) || [-UNSEEN, UNSEEN];
      entry.layer.updateStyleVariables({
        ...lightOf(light),
        low,
        high: Math.max(high, low + 1e-6),
        cell,
        rise: light.rise * riseAt(cell) * metres,
        under,
        over,
      });
    });
    map.render();
  }, [map, drawn, looks, light, levels, path, grid, view, metres]);

  useEffect(() => {
    const relight = () => {
      const cell = drawnCell(grid, view.getResolution() ?? grid.cell_width);
      for (const { layer } of layers.current.values())
        layer.updateStyleVariables({ cell, rise: light.rise * riseAt(cell) * metres });
    };
    view.on("change:resolution", relight);
    return () => view.un("change:resolution", relight);
  }, [view, grid, light.rise, metres]);

  useEffect(() => {
    const held = layers.current;
    return () => held.clear();
  }, []);

  useDressed(map, grid);

  // -- marks --------------------------------------------------------------------------------------------
  const shownTo = drawn.find((one) => one.id === "preview")?.to ?? 0;
  const borderEnd = useRef(1);
  borderEnd.current = shownTo;
  const bordered = shownTo > 0;
  useEffect(() => {
    if (!map || !bordered || !preview) return;
    const features = preview.outline.map(
      (ring) => new Feature(new LineString(ring.map(([x, y]) => [x - west, y - south]))),
    );
    const layer = new VectorLayer({ source: new VectorSource({ features }), style: previewBorder, zIndex: 60 });
    // the border belongs to A's side: it ends where the curtain hangs
    layer.on("prerender", (event) => {
      const context = event.context as CanvasRenderingContext2D;
      context.save();
      context.beginPath();
      context.rect(0, 0, context.canvas.width * borderEnd.current, context.canvas.height);
      context.clip();
    });
    layer.on("postrender", (event) => (event.context as CanvasRenderingContext2D).restore());
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, preview, bordered, west, south]);

  useEffect(() => {
    if (!map) return;
    const marked = (at: [number, number], style: Style) => {
      const feature = new Feature(new Point([at[0] - west, at[1] - south]));
      feature.setStyle(style);
      return feature;
    };
    const features = [
      ...dots.map((at) => marked(at, dotMark)),
      ...places.map((at) => marked(at, placeMark)),
      ...pinned.map((reading, i) => marked([reading.x, reading.y], pinMark(String(i + 1)))),
    ];
    const layer = new VectorLayer({ source: new VectorSource({ features }), zIndex: 61 });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, places, dots, pinned, west, south]);

  useEffect(() => {
    if (!map || !errors.length) return;
    const features = errors.map(({ x, y, share }) => {
      const feature = new Feature(new Point([x - west, y - south]));
      feature.setStyle(errorMark(share));
      return feature;
    });
    const layer = new VectorLayer({ source: new VectorSource({ features }), zIndex: 60 });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, errors, west, south]);

  useEffect(() => {
    if (!map || !(rims.length || seams.length)) return;
    const placed = (line: [number, number][]) => line.map(([x, y]) => [x - west, y - south]);
    const features = [
      ...seams.map((line) => new Feature(new LineString(placed(line)))),
      ...rims.map((rim) => new Feature(new Polygon([placed(rim)]))),
    ];
    const layer = new VectorLayer({ source: new VectorSource({ features }), style: rimMark(), zIndex: 56 });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, rims, seams, west, south]);

  useFootprints(map, grid);
  const line = useDesk((desk) => (desk.tab === "profile" ? desk.line : null));
  const lineAt = useDesk((desk) => desk.lineAt);
  useEffect(() => {
    if (!map || !line) return;
    const placed = ([x, y]: [number, number]) => [x - west, y - south];
    const features: Feature[] = [new Feature(new LineString(line.map(placed)))];
    if (lineAt) {
      const dot = new Feature(new Point(placed(lineAt)));
      dot.setStyle(spotMark);
      features.push(dot);
    }
    const layer = new VectorLayer({ source: new VectorSource({ features }), style: areaMark, zIndex: 57 });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, line, lineAt, west, south]);
  useContours(
    map,
    grid,
    useDesk((desk) => desk.contours),
  );
  useFacets(map, grid, useFacetsInView(project.id));
  useDrawing(map, grid);
  useEditing(map, grid);

  return <div ref={element} className={`pane ${className}`} role="application" aria-label={label} />;
}
