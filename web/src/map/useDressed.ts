import { useQueries } from "@tanstack/react-query";
import type VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import { useEffect, useMemo, useRef } from "react";
import { bytes, call, type Grid, type Holding } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { type CloudIndex, CloudLayer } from "./cloudLayer";
import { type CloudBy, type Dress, usualDress } from "./dress";
import { featuresLayer, redress } from "./featuresLayer";
import { type DotPoints, decodePoints, PointsLayer } from "./pointsLayer";
import { stopsOf } from "./ramps";
import { originOf } from "./surfaceLayer";

type Shown = { layer: VectorLayer | PointsLayer | CloudLayer; data: unknown; dressed: string };

/** The dress of a holding: the usual one with what was chosen. */
export function useDress() {
  const project = useProject();
  const dress = useDesk((desk) => desk.dress);
  return (holding: Holding): Dress => ({
    ...usualDress(holding, project.checkpoints_id === holding.id),
    ...dress[holding.id],
  });
}

/** Clouds, points and features on a map: loaded when shown, dressed anew without loading again. */
export function useDressed(map: OlMap | null, grid: Grid): void {
  const project = useProject();
  const held = useHeld();
  const hidden = useDesk((desk) => desk.hidden);
  const look = useDesk((desk) => desk.looks.height);
  const dressOf = useDress();
  const [west, south] = originOf(grid);
  // a cloud is shown when asked for: it would cover the surfaces
  const shown = useMemo(
    () =>
      [...held.clouds.filter((one) => hidden[one.id] === false), ...held.points, ...held.features].filter(
        (one) => !hidden[one.id],
      ),
    [held.clouds, held.points, held.features, hidden],
  );
  const data = useQueries({
    queries: shown.map((one) => ({
      queryKey: ["drawn", project.id, one.id, grid.crs],
      queryFn: async (): Promise<object> => {
        const path = `/projects/${project.id}/holdings/${one.id}`;
        if (one.kind === "features") return call<object>("GET", `${path}/features`);
        if (one.kind === "cloud") return call<CloudIndex>("GET", `${path}/cloud`);
        return decodePoints((await bytes(`${path}/points`)) ?? new ArrayBuffer(0), [west, south]);
      },
      staleTime: Infinity,
    })),
    combine: (results) => results.map((result) => result.data),
  });

  const layers = useRef(new Map<number, Shown>());
  useEffect(() => {
    if (!map) return;
    const drawn = layers.current;
    const wanted = new Set(shown.map((one) => one.id));
    for (const [id, { layer }] of drawn) {
      if (wanted.has(id)) continue;
      map.removeLayer(layer);
      drawn.delete(id);
    }
    shown.forEach((holding, i) => {
      const found = data[i];
      if (!found) return;
      const dress = dressOf(holding);
      let entry = drawn.get(holding.id);
      if (entry?.data !== found) {
        if (entry) map.removeLayer(entry.layer);
        const layer =
          holding.kind === "cloud"
            ? new CloudLayer(`/projects/${project.id}/holdings/${holding.id}/cloud`, found as CloudIndex, [west, south])
            : holding.kind === "points"
              ? new PointsLayer(found as DotPoints)
              : featuresLayer(found, [west, south], dress);
        layer.setZIndex({ cloud: 30, points: 40, features: 50, surface: 0 }[holding.kind]);
        map.addLayer(layer);
        entry = { layer, data: found, dressed: "" };
        drawn.set(holding.id, entry);
      }
      const { layer } = entry;
      const dressed = JSON.stringify([dress, ...(dress.by === "one" ? [] : [stopsOf(look), look.range])]);
      if (entry.dressed === dressed) return;
      entry.dressed = dressed;
      if (layer instanceof CloudLayer) {
        const [, column, value] = /^(class)=(.*)$/.exec(dress.filter) ?? [];
        layer.dress(dress.by as CloudBy, stopsOf(look), look.range, (code) => !column || String(code) === value);
      } else if (layer instanceof PointsLayer) {
        const names = Object.keys(holding.points?.codes ?? {});
        const wantedCode = dress.filter.startsWith("code=") ? names.indexOf(dress.filter.slice(5)) : -1;
        layer.dress(
          dress.colour,
          dress.by === "height" ? { stops: stopsOf(look), range: look.range } : dress.by === "code" ? "code" : null,
          (code) => wantedCode < 0 || code === wantedCode,
        );
      } else redress(layer, dress);
    });
  });

  useEffect(() => {
    const drawn = layers.current;
    return () => {
      for (const { layer } of drawn.values()) map?.removeLayer(layer);
      drawn.clear();
    };
  }, [map]);
}
