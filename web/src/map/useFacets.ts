import { keepPreviousData, useQuery } from "@tanstack/react-query";
import Feature from "ol/Feature";
import MultiLineString from "ol/geom/MultiLineString";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import { Stroke, Style } from "ol/style";
import { useEffect } from "react";
import { call, type Facets, type Grid } from "../api/client";
import { useDesk } from "../desk/store";
import { originOf } from "./surfaceLayer";

type Edge = [number, number, number, number];

const line = (color: string, width: number, lineDash?: number[]) =>
  new Style({ stroke: new Stroke({ color, width, lineDash }) });
/** Sloping facets are thin ink; level ones stand out, and those that are left out are dashed. */
const STYLES = {
  sloping: line("rgba(31,42,48,0.55)", 0.8),
  level: line("#9A6B00", 2),
  left_out: line("rgba(156,43,43,0.75)", 1, [4, 4]),
};

/** The facets of the preview, or of A, in the view; null while none are wanted. */
export function useFacetsInView(projectId: number): Facets | null {
  const on = useDesk((desk) => desk.facetsOn);
  const key = useDesk((desk) => desk.preview?.key ?? desk.slots.a);
  const bounds = useDesk((desk) => desk.bounds);
  const { data } = useQuery({
    queryKey: ["facets", projectId, key, bounds],
    queryFn: ({ signal }) => {
      const [west, south, east, north] = bounds as Edge;
      const query = `west=${west}&south=${south}&east=${east}&north=${north}`;
      return call<Facets>("GET", `/projects/${projectId}/facets/${key}?${query}`, undefined, signal);
    },
    enabled: on && key !== null && bounds !== null,
    placeholderData: keepPreviousData,
    gcTime: 30_000,
  });
  return on ? (data ?? null) : null;
}

/** Draws them over the surface. */
export function useFacets(map: OlMap | null, grid: Grid, facets: Facets | null): void {
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || !facets?.count) return;
    const features = (["sloping", "level", "left_out"] as const).map((kind) => {
      const feature = new Feature(
        new MultiLineString(
          facets[kind].map(([x0, y0, x1, y1]) => [
            [x0 - west, y0 - south],
            [x1 - west, y1 - south],
          ]),
        ),
      );
      feature.setStyle(STYLES[kind]);
      return feature;
    });
    const layer = new VectorLayer({
      source: new VectorSource({ features }),
      zIndex: 40,
      updateWhileInteracting: false,
    });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, facets, west, south]);
}
