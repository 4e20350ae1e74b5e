import Feature from "ol/Feature";
import { LineString, MultiPoint, Polygon } from "ol/geom";
import Modify from "ol/interaction/Modify";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import { Circle, Fill, RegularShape, Stroke, Style } from "ol/style";
import { useEffect } from "react";
import { toolOf, useDesk } from "../desk/store";
import type { Line } from "../map/shapes";
import type { Space } from "../map/space";

const REACH = 9; // pixels

const marks = [
  new Style({ stroke: new Stroke({ color: "rgba(252,251,247,0.95)", width: 5 }) }),
  new Style({ stroke: new Stroke({ color: "#1B6470", width: 2.4 }) }),
  new Style({
    image: new RegularShape({
      points: 4,
      radius: 6,
      angle: Math.PI / 4,
      fill: new Fill({ color: "#FCFBF7" }),
      stroke: new Stroke({ color: "#1B6470", width: 2 }),
    }),
    geometry: (feature) => {
      const shape = feature.getGeometry() as Polygon | LineString;
      const places = shape instanceof Polygon ? (shape.getCoordinates()[0] ?? []) : shape.getCoordinates();
      return new MultiPoint(places);
    },
  }),
];

const handle = new Style({
  image: new Circle({
    radius: 5,
    fill: new Fill({ color: "#FCFBF7" }),
    stroke: new Stroke({ color: "#1B6470", width: 2 }),
  }),
});

/** An outline or a line whose vertices are dragged, added and taken away; what it becomes goes to whoever took the tool up. */
export function useVertices(map: OlMap | null, space: Space): void {
  const tool = useDesk(toolOf);
  useEffect(() => {
    if (!map || tool.kind !== "vertices") return;
    const drawn = tool.places.map(space.toPane);
    const shape = tool.closed ? new Polygon([[...drawn, ...drawn.slice(0, 1)]]) : new LineString(drawn);
    const feature = new Feature(shape);
    const source = new VectorSource({ features: [feature] });
    const layer = new VectorLayer({ source, style: marks, zIndex: 59 });
    const modify = new Modify({ source, style: handle, pixelTolerance: REACH });
    modify.on("modifyend", () => {
      const now = feature.getGeometry();
      const places: number[][] =
        now instanceof Polygon ? (now.getCoordinates()[0] ?? []).slice(0, -1) : (now?.getCoordinates() ?? []);
      tool.done(places.map(space.toPlace) as Line);
    });
    map.addLayer(layer);
    map.addInteraction(modify);
    return () => {
      map.removeInteraction(modify);
      map.removeLayer(layer);
    };
  }, [map, tool, space]);
}
