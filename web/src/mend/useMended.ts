import { useMutation } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import { call } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { metresIn } from "../desk/format";
import { useDesk } from "../desk/store";
import type { Line } from "../map/shapes";
import { useStack } from "./useStack";

/** The surface that is mended: the untouched one that the worksheet names. */
export function useMended() {
  const { surfaces } = useHeld();
  const given = useDesk((desk) => desk.sheets.mend?.inputs.surface);
  const id = Array.isArray(given) ? given[0] : given;
  return surfaces.find((one) => one.id === id);
}

/** The stack over the surface that is mended. */
export const useMendedStack = () => useStack(useMended());

export interface ShapeRequest {
  how: "square" | "offset" | "split" | "merge" | "grow";
  rings?: Line[];
  line?: Line;
  metres?: number;
  x?: number;
  y?: number;
  height?: number;
  slope?: number;
  key?: string;
}

/** Outlines changed as a whole by the service. */
export function useShape() {
  const project = useProject();
  const surface = useMended();
  return useMutation({
    mutationKey: ["shape"],
    mutationFn: async (what: ShapeRequest) =>
      (await call<{ rings: Line[] }>("POST", `/projects/${project.id}/holdings/${surface?.id}/patches/shape`, what))
        .rings,
  });
}

/** Measures on the ground: places in metres east and north and back, and units of the frame's CRS to a metre. */
export function useRuler() {
  const [across, up] = useProject().frame.metres_per_unit;
  return useMemo(
    () => ({
      toGround: (places: Line): Line => places.map(([x, y]) => [x * across, y * up]),
      fromGround: (places: Line): Line => places.map(([x, y]) => [x / across, y / up]),
      perMetre: 1 / Math.sqrt(across * up),
    }),
    [across, up],
  );
}

/** The middle of the heights that the key shows, in metres as patches are: where one must be given, it begins there. */
export function useUsualHeight(): () => number {
  const metres = metresIn(useProject().frame.unit);
  return useCallback(() => {
    const [low, high] = useDesk.getState().looks.height.range;
    return Math.round(((low + high) / 2) * metres * 10) / 10;
  }, [metres]);
}
