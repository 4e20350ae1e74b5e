import type Feature from "ol/Feature";
import GeoJSON from "ol/format/GeoJSON";
import { MultiPoint } from "ol/geom";
import Draw from "ol/interaction/Draw";
import Modify from "ol/interaction/Modify";
import Snap from "ol/interaction/Snap";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import type MapBrowserEvent from "ol/MapBrowserEvent";
import VectorSource from "ol/source/Vector";
import { Circle, Fill, Stroke, Style } from "ol/style";
import { useEffect, useRef } from "react";
import type { Grid } from "../api/client";
import { useHeld } from "../desk/context";
import { useDesk } from "../desk/store";
import { useDraft, useFeatures } from "../desk/useDraft";
import { type Drawn, featureAt, linesOf, reshaped, type Shape, vertexAt } from "./shapes";
import { originOf } from "./surfaceLayer";

const REACH = 9; // pixels
/** The map's coordinates are rounded to centimetres: a vertex that snapped here is found again within this. */
const SNAPPED = 0.05;
const format = new GeoJSON();

const chosenMark = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.95)", width: 6 }) }),
  new Style({
    stroke: new Stroke({ color: "#1B6470", width: 3 }),
    fill: new Fill({ color: "rgba(27,100,112,0.16)" }),
    image: new Circle({ radius: 6, stroke: new Stroke({ color: "#1B6470", width: 3 }) }),
  }),
];

const vertexMark = new Style({
  image: new Circle({
    radius: 3.5,
    fill: new Fill({ color: "#FCFBF7" }),
    stroke: new Stroke({ color: "#1B6470", width: 1.5 }),
  }),
  geometry: (feature) => {
    const shape = format.writeGeometryObject(feature.getGeometry() as never) as Shape;
    return new MultiPoint(linesOf(shape).flat());
  },
});

const handleMark = new Style({
  image: new Circle({
    radius: 6,
    fill: new Fill({ color: "#1B6470" }),
    stroke: new Stroke({ color: "#fff", width: 2 }),
  }),
});

function placed(one: Drawn, west: number, south: number): Feature {
  const feature = format.readFeature(one) as Feature;
  feature.getGeometry()?.translate(-west, -south);
  return feature;
}

/** Chosen features on the map, and what presses do to them while lines are edited. */
export function useEditing(map: OlMap | null, grid: Grid): void {
  const { features } = useHeld();
  const chosen = useDesk((desk) => desk.chosen);
  const editing = useDesk((desk) => desk.editing);
  const tool = useDesk((desk) => desk.tool);
  const snapping = useDesk((desk) => desk.snapping);
  const set = useDesk((desk) => desk.set);
  const edited = features.find((one) => one.id === editing);
  const draft = useDraft(edited);
  const shownOf = features.find((one) => one.id === chosen.holding);
  const untouched = useFeatures(shownOf);
  const collection = editing === chosen.holding ? draft.collection : untouched.data;
  const [west, south] = originOf(grid);
  const change = useRef(draft.change.mutate);
  change.current = draft.change.mutate;
  const current = useRef(draft.collection);
  current.current = draft.collection;

  // -- chosen features ----------------------------------------------------------------------------------
  const source = useRef<VectorSource | null>(null);
  const { refused } = draft;
  // biome-ignore lint/correctness/useExhaustiveDependencies: a refused edit leaves the shape as it was before
  useEffect(() => {
    if (!map || !collection || !chosen.numbers.length) return;
    const wanted = new Set(chosen.numbers);
    const made = new VectorSource({
      features: collection.features.filter((one) => wanted.has(one.id)).map((one) => placed(one, west, south)),
    });
    const style = tool === "reshape" || tool === "split" ? [...chosenMark, vertexMark] : chosenMark;
    const layer = new VectorLayer({ source: made, style: editing ? style : chosenMark, zIndex: 57 });
    map.addLayer(layer);
    source.current = made;
    return () => {
      map.removeLayer(layer);
      source.current = null;
    };
  }, [map, collection, chosen, tool, editing, west, south, refused]);

  // -- choosing and splitting -----------------------------------------------------------------------------
  useEffect(() => {
    if (!map || editing === null || (tool !== "choose" && tool !== "split" && tool !== "reshape")) return;
    const press = (event: MapBrowserEvent) => {
      const held = current.current;
      if (!held) return;
      const at: [number, number] = [(event.coordinate[0] ?? 0) + west, (event.coordinate[1] ?? 0) + south];
      const reach = REACH * (map.getView().getResolution() ?? 1);
      const number = featureAt(held, at, reach);
      if (tool === "split" && number !== null) {
        const shape = held.features.find((one) => one.id === number)?.geometry;
        const vertex = shape && vertexAt(shape, at, reach);
        set({ chosen: { holding: editing, numbers: [number] } });
        if (vertex) change.current({ edit: { kind: "split", feature: number, ...vertex } });
        return;
      }
      const before = useDesk.getState().chosen;
      const numbers = before.holding === editing ? before.numbers : [];
      const { shiftKey, ctrlKey, metaKey } = event.originalEvent as MouseEvent;
      const more = tool === "choose" && (shiftKey || ctrlKey || metaKey);
      if (number === null) {
        if (!more) set({ chosen: { holding: editing, numbers: [] } });
      } else if (more)
        set({
          chosen: {
            holding: editing,
            numbers: numbers.includes(number) ? numbers.filter((one) => one !== number) : [...numbers, number],
          },
        });
      else set({ chosen: { holding: editing, numbers: [number] } });
    };
    map.on("singleclick", press);
    return () => map.un("singleclick", press);
  }, [map, editing, tool, set, west, south]);

  // -- reshaping and drawing ------------------------------------------------------------------------------
  const number = chosen.holding === editing && chosen.numbers.length === 1 ? chosen.numbers[0] : undefined;
  useEffect(() => {
    if (!map || editing === null || !draft.collection) return;
    const drawing = tool === "line" || tool === "polygon";
    if (!drawing && (tool !== "reshape" || number === undefined || !source.current)) return;
    const feature = drawing ? undefined : source.current?.getFeatures()[0];
    const interaction =
      drawing || !source.current
        ? new Draw({ type: tool === "polygon" ? "Polygon" : "LineString", style: chosenMark, stopClick: true })
        : new Modify({ source: source.current, style: handleMark, pixelTolerance: REACH });
    let before = feature && (format.writeGeometryObject(feature.getGeometry() as never) as Shape);
    const snap = snapping ? SNAPPED : 0;
    if (interaction instanceof Draw)
      interaction.on("drawend", (event) => {
        const shape = format.writeGeometryObject(event.feature.getGeometry() as never) as Shape;
        const places = (linesOf(shape)[0] ?? []).map(([x = 0, y = 0]) => [x + west, y + south]);
        change.current({ edit: { kind: "draw", shape: tool, places }, snap });
      });
    else
      interaction.on("modifyend", () => {
        if (!feature || !before) return;
        const after = format.writeGeometryObject(feature.getGeometry() as never) as Shape;
        const done = reshaped(before, after);
        before = after;
        if (!done) return;
        const place = "x" in done ? { x: done.x + west, y: done.y + south } : {};
        change.current({ edit: { ...done, ...place, feature: number }, snap });
      });
    map.addInteraction(interaction);
    const around = new VectorSource();
    const snapper = snapping ? new Snap({ source: around, pixelTolerance: REACH }) : null;
    const gather = () => {
      const [left = 0, bottom = 0, right = 0, top = 0] = map.getView().calculateExtent(map.getSize());
      const seen = ([x = 0, y = 0]: number[]) =>
        x - west >= left && x - west <= right && y - south >= bottom && y - south <= top;
      const near = draft.collection?.features.filter(
        (one) => one.id !== number && linesOf(one.geometry).some((line) => line.some(seen)),
      );
      around.clear();
      around.addFeatures((near ?? []).map((one) => placed(one, west, south)));
    };
    if (snapper) {
      gather();
      map.addInteraction(snapper);
      map.on("moveend", gather);
    }
    const leave = (event: KeyboardEvent) => {
      if (event.key !== "Escape") return;
      event.stopImmediatePropagation();
      if (interaction instanceof Draw) interaction.abortDrawing();
      set({ tool: "choose" });
    };
    window.addEventListener("keydown", leave, true);
    return () => {
      map.removeInteraction(interaction);
      if (snapper) map.removeInteraction(snapper);
      map.un("moveend", gather);
      window.removeEventListener("keydown", leave, true);
    };
  }, [map, editing, tool, number, draft.collection, snapping, set, west, south]);
}
