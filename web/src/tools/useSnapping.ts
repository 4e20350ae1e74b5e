import { useQueryClient } from "@tanstack/react-query";
import Feature from "ol/Feature";
import { LineString } from "ol/geom";
import type OlMap from "ol/Map";
import { useEffect } from "react";
import { KEYS } from "../api/keys";
import { useMe } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import type { Overlay } from "../desk/overlays";
import { toolOf, useDesk } from "../desk/store";
import { type Collection, linesOf } from "../map/shapes";
import type { Space } from "../map/space";
import { isVisible } from "../map/visible";
import { snapOn } from "./snapping";

const MOST = 3000; // lines in view that can be snapped to

/** Outlines that worksheets show, but the one that is open. */
const outlinesOf = (overlays: Overlay[]): number[][][] =>
  overlays.flatMap((one) =>
    one.kind === "patches"
      ? one.shown.outlines
          .filter(({ look }) => look !== "chosen")
          .map(({ places, width }) => (width === null ? [...places, ...places.slice(0, 1)] : places))
      : [],
  );

/** Lets a drawing that asks for it snap to outlines and to the features on the map. */
export function useSnapping(map: OlMap | null, space: Space): void {
  const project = useProject();
  const queries = useQueryClient();
  const { features } = useHeld();
  const hidden = useDesk((desk) => desk.hidden);
  const me = useMe().data?.id;
  const tool = useDesk(toolOf);
  useEffect(() => {
    if (!map || !("snaps" in tool && tool.snaps)) return;
    const shown = features
      .filter((one) => isVisible(one, hidden, me))
      .map((one) => queries.getQueryData<Collection>(KEYS.drawn(project.id, one.id, project.frame.grid.crs)));
    return snapOn(map, (inView) => {
      const found: Feature[] = [];
      const offer = (line: number[][]) => {
        if (found.length >= MOST || line.length < 2) return;
        const drawn = line.map(space.toPane);
        if (drawn.some(inView)) found.push(new Feature(new LineString(drawn)));
      };
      for (const line of outlinesOf(useDesk.getState().overlays)) offer(line);
      for (const one of shown)
        for (const { geometry } of one?.features ?? []) for (const line of linesOf(geometry)) offer(line);
      return found;
    });
  }, [map, tool, space, features, hidden, me, queries, project.id, project.frame.grid.crs]);
}
