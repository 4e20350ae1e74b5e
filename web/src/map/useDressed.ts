import { useQueries } from "@tanstack/react-query";
import type VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import { useEffect, useMemo, useRef } from "react";
import { ApiError, bytes, call, type Grid, type Holding } from "../api/client";
import { KEYS } from "../api/keys";
import { useMe } from "../api/queries";
import { quantityOf, useHeld, useProject } from "../desk/context";
import { editOf, useDesk } from "../desk/store";
import { useDraft } from "../desk/useDraft";
import { type CloudIndex, CloudPainter } from "./cloudPainter";
import { type CloudBy, type Dress, usualDress } from "./dress";
import { DressedLayer } from "./dressedLayer";
import { labelsLayer, redress } from "./labelsLayer";
import { LinesPainter } from "./linesPainter";
import { type DotPoints, decodePoints, PointsPainter } from "./pointsPainter";
import { stopsOf } from "./ramps";
import type { Collection } from "./shapes";
import { originOf } from "./surfaceLayer";
import { bearsHeights, isVisible } from "./visible";

type Shown = {
  painter: LinesPainter | PointsPainter | CloudPainter;
  labels: VectorLayer | null;
  data: unknown;
  dressed: string;
};

/** The ground an image sees, as a polygon: on a surface, or at the middle of the heights that its model is meant for. */
async function outlineOf(project: number, { id, name, image }: Holding, drawnOn: string): Promise<Collection> {
  let ring = image?.footprint ?? [];
  if (drawnOn)
    try {
      ring = (await call<{ ring: [number, number][] }>("GET", `/projects/${project}/images/${id}/outline?${drawnOn}`))
        .ring;
    } catch (error) {
      // models of other images, or a geoid that lies elsewhere, are said on their worksheet; here the plain outline does
      if (!(error instanceof ApiError && error.status === 422)) throw error;
    }
  const geometry = { type: "Polygon", coordinates: [ring] };
  return { type: "FeatureCollection", features: [{ type: "Feature", id, properties: { name }, geometry }] };
}

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
  const editing = useDesk((desk) => editOf(desk)?.holding);
  const draft = useDraft(held.features.find((one) => one.id === editing));
  const [west, south] = originOf(grid);
  const me = useMe().data?.id;
  const covered = useDesk((desk) => desk.mode === "minus" && !desk.linesOverMinus) && Boolean(held.a && held.b);
  const shown = useMemo(
    () =>
      [...held.clouds, ...held.images, ...held.points, ...held.features].filter(
        (one) => isVisible(one, hidden, me) && !(covered && bearsHeights(one)),
      ),
    [held.clouds, held.images, held.points, held.features, hidden, me, covered],
  );
  const pair = useDesk((desk) => desk.sheets.image_pair?.inputs);
  const surface = held.a && quantityOf(held.a) === "height" ? held.a.key : null;
  const given = Object.entries({ surface, model: pair?.model, geoid: pair?.geoid }).filter(([, one]) => one != null);
  const drawnOn = surface ? new URLSearchParams(given.map(([name, one]) => [name, String(one)])).toString() : "";
  const data = useQueries({
    queries: shown.map((one) => ({
      queryKey: KEYS.drawn(project.id, one.id, one.kind === "image" ? [grid.crs, drawnOn] : grid.crs),
      queryFn: async (): Promise<object> => {
        const path = `/projects/${project.id}/holdings/${one.id}`;
        if (one.kind === "features") return call<object>("GET", `${path}/features`);
        if (one.kind === "image") return outlineOf(project.id, one, drawnOn);
        if (one.kind === "cloud") return call<CloudIndex>("GET", `${path}/cloud`);
        return decodePoints((await bytes(`${path}/points`)) ?? new ArrayBuffer(0), [west, south]);
      },
      staleTime: Infinity,
    })),
    combine: (results) => results.map((result) => result.data),
  });

  const entries = useRef(new Map<number, Shown>());
  const layer = useRef<DressedLayer | null>(null);
  useEffect(() => {
    if (!map) return;
    const made = new DressedLayer();
    made.setZIndex(40);
    map.addLayer(made);
    layer.current = made;
    const drawn = entries.current;
    return () => {
      for (const { labels } of drawn.values()) if (labels) map.removeLayer(labels);
      drawn.clear();
      map.removeLayer(made);
      made.dispose();
      layer.current = null;
    };
  }, [map]);

  useEffect(() => {
    if (!map || !layer.current) return;
    const drawn = entries.current;
    const wanted = new Set(shown.map((one) => one.id));
    for (const [id, { labels }] of drawn) {
      if (wanted.has(id)) continue;
      if (labels) map.removeLayer(labels);
      drawn.delete(id);
    }
    shown.forEach((holding, i) => {
      const found = holding.id === editing && draft.collection ? draft.collection : data[i];
      if (!found) return;
      const dress = dressOf(holding);
      let entry = drawn.get(holding.id);
      if (entry?.data !== found) {
        if (entry?.labels) map.removeLayer(entry.labels);
        const painter =
          holding.kind === "cloud"
            ? new CloudPainter(`/projects/${project.id}/holdings/${holding.id}/cloud`, found as CloudIndex, [
                west,
                south,
              ])
            : holding.kind === "points"
              ? new PointsPainter(found as DotPoints)
              : new LinesPainter(found as Collection, [west, south]);
        const labels =
          holding.kind === "features" || holding.kind === "image" ? labelsLayer(found, [west, south], dress) : null;
        if (labels) {
          labels.setZIndex(55);
          map.addLayer(labels);
        }
        entry = { painter, labels, data: found, dressed: "" };
        drawn.set(holding.id, entry);
      }
      const { painter } = entry;
      const dressed = JSON.stringify([dress, ...(dress.by === "one" ? [] : [stopsOf(look), look.range])]);
      if (entry.dressed === dressed) return;
      entry.dressed = dressed;
      if (painter instanceof CloudPainter) {
        const [, column, value] = /^(class)=(.*)$/.exec(dress.filter) ?? [];
        painter.dress(dress.by as CloudBy, stopsOf(look), look.range, (code) => !column || String(code) === value);
      } else if (painter instanceof PointsPainter) {
        const names = Object.keys(holding.points?.codes ?? {});
        const wantedCode = dress.filter.startsWith("code=") ? names.indexOf(dress.filter.slice(5)) : -1;
        painter.dress(
          dress.colour,
          dress.by === "height" ? { stops: stopsOf(look), range: look.range } : dress.by === "code" ? "code" : null,
          (code) => wantedCode < 0 || code === wantedCode,
        );
      } else {
        painter.dress(dress);
        if (entry.labels) redress(entry.labels, dress);
      }
    });
    layer.current.show(shown.flatMap((one) => drawn.get(one.id)?.painter ?? []));
  });
}
