import { keepPreviousData, useQuery } from "@tanstack/react-query";
import Feature from "ol/Feature";
import LineString from "ol/geom/LineString";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import { Fill, Stroke, Style, Text } from "ol/style";
import { useEffect } from "react";
import { type ContourLine, call, type Grid } from "../api/client";
import type { RunBody } from "../api/queries";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { originOf } from "./surfaceLayer";

/** The contours that a worksheet asks for, in the view. */
export function useContoursInView(projectId: number, run: RunBody | null) {
  const bounds = useDesk((desk) => desk.bounds);
  const { data, error, isFetching } = useQuery({
    queryKey: ["contours", projectId, run, bounds],
    queryFn: ({ signal }) => call<ContourLine[]>("POST", `/projects/${projectId}/lines`, { run, bounds }, signal),
    enabled: run !== null && bounds !== null,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
    retry: false,
  });
  return { lines: run && !error ? data : undefined, failed: error?.message ?? null, waiting: isFetching };
}

const halo = new Stroke({ color: "rgba(252,251,247,0.92)", width: 3 });

/** How a line is drawn: index lines heavier and with their height along them. */
export function contourStyle(figure: number | null, index: boolean, unit: string): Style {
  return new Style({
    stroke: new Stroke({ color: index ? "rgba(31,42,48,0.9)" : "rgba(31,42,48,0.6)", width: index ? 1.5 : 0.7 }),
    text:
      index && figure !== null
        ? new Text({
            text: `${num(figure, Number.isInteger(figure) ? 0 : 1)}\u202f${unit}`,
            placement: "line",
            font: '500 10.5px "Spline Sans Mono Variable"',
            fill: new Fill({ color: "#1F2A30" }),
            stroke: halo,
          })
        : undefined,
  });
}

/** Draws them over everything else. */
export function useContours(
  map: OlMap | null,
  grid: Grid,
  contours: { lines: ContourLine[]; unit: string } | null,
): void {
  const [west, south] = originOf(grid);
  useEffect(() => {
    if (!map || !contours?.lines.length) return;
    const features = contours.lines.map(({ figure, index, places }) => {
      const line: [number, number][] = [];
      for (let i = 0; i < places.length; i += 2)
        line.push([(places[i] as number) - west, (places[i + 1] as number) - south]);
      const feature = new Feature(new LineString(line));
      feature.setStyle(contourStyle(figure, index, contours.unit));
      return feature;
    });
    const layer = new VectorLayer({ source: new VectorSource({ features }), zIndex: 41, declutter: true });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, contours, west, south]);
}
