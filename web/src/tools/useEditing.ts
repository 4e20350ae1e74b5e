import type Feature from "ol/Feature";
import GeoJSON from "ol/format/GeoJSON";
import { MultiPoint } from "ol/geom";
import Draw from "ol/interaction/Draw";
import Modify from "ol/interaction/Modify";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import type MapBrowserEvent from "ol/MapBrowserEvent";
import VectorSource from "ol/source/Vector";
import { Circle, Fill, Stroke, Style } from "ol/style";
import { useEffect, useRef } from "react";
import { useHeld } from "../desk/context";
import { editOf, toolOf, useDesk } from "../desk/store";
import { useDraft, useFeatures } from "../desk/useDraft";
import { type Drawn, featureAt, linesOf, reshaped, type Shape, vertexAt } from "../map/shapes";
import type { Space } from "../map/space";
import { snapOn } from "./snapping";

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

function placed(one: Drawn, { toPane }: Space): Feature {
  const feature = format.readFeature(one) as Feature;
  const [x, y] = toPane([0, 0]);
  feature.getGeometry()?.translate(x, y);
  return feature;
}

/** Chosen features on the map, and what presses do to them while lines are edited. */
export function useEditing(map: OlMap | null, space: Space): void {
  const { features } = useHeld();
  const chosen = useDesk((desk) => desk.chosen);
  const edit = useDesk(editOf);
  const inHand = useDesk((desk) => toolOf(desk).kind === "edit");
  const editing = edit?.holding ?? null;
  const tool = edit?.with ?? "choose";
  const snapping = edit?.snap ?? true;
  const set = useDesk((desk) => desk.set);
  const edited = features.find((one) => one.id === editing);
  const draft = useDraft(edited);
  const shownOf = features.find((one) => one.id === chosen.holding);
  const untouched = useFeatures(shownOf);
  const collection = editing === chosen.holding ? draft.collection : untouched.data;
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
      features: collection.features.filter((one) => wanted.has(one.id)).map((one) => placed(one, space)),
    });
    const style = tool === "reshape" || tool === "split" ? [...chosenMark, vertexMark] : chosenMark;
    const layer = new VectorLayer({ source: made, style: editing ? style : chosenMark, zIndex: 57 });
    map.addLayer(layer);
    source.current = made;
    return () => {
      map.removeLayer(layer);
      source.current = null;
    };
  }, [map, collection, chosen, tool, editing, space, refused]);

  // -- choosing and splitting -----------------------------------------------------------------------------
  useEffect(() => {
    if (!map || !inHand || editing === null || (tool !== "choose" && tool !== "split" && tool !== "reshape")) return;
    const press = (event: MapBrowserEvent) => {
      const held = current.current;
      if (!held) return;
      const at = space.toPlace(event.coordinate);
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
  }, [map, inHand, editing, tool, set, space]);

  // -- reshaping and drawing ------------------------------------------------------------------------------
  const number = chosen.holding === editing && chosen.numbers.length === 1 ? chosen.numbers[0] : undefined;
  useEffect(() => {
    if (!map || !inHand || editing === null || !draft.collection) return;
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
        const places = (linesOf(shape)[0] ?? []).map(space.toPlace);
        change.current({ edit: { kind: "draw", shape: tool, places }, snap });
      });
    else
      interaction.on("modifyend", () => {
        if (!feature || !before) return;
        const after = format.writeGeometryObject(feature.getGeometry() as never) as Shape;
        const done = reshaped(before, after);
        before = after;
        if (!done) return;
        const [x, y] = "x" in done ? space.toPlace([done.x, done.y]) : [];
        const place = x === undefined ? {} : { x, y };
        change.current({ edit: { ...done, ...place, feature: number }, snap });
      });
    map.addInteraction(interaction);
    const { features: all } = draft.collection;
    const end = snapping
      ? snapOn(map, (inView) => {
          const seen = (place: number[]) => inView(space.toPane(place));
          const near = all.filter((one) => one.id !== number && linesOf(one.geometry).some((line) => line.some(seen)));
          return near.map((one) => placed(one, space));
        })
      : () => undefined;
    return () => {
      map.removeInteraction(interaction);
      end();
    };
  }, [map, inHand, editing, tool, number, draft.collection, snapping, space]);
}
