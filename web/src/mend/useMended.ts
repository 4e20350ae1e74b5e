import { useMutation } from "@tanstack/react-query";
import { useMemo } from "react";
import { call } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import type { Line, Place } from "../map/shapes";
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

/** Metres on the ground to a unit of the frame's CRS, across. */
export function useMetres(): number {
  const { frame } = useProject();
  return frame.cell_size / frame.grid.cell_width;
}

/** The middle of what the map shows. */
export function useMiddle(): Place | null {
  const bounds = useDesk((desk) => desk.bounds);
  return useMemo(() => bounds && [(bounds[0] + bounds[2]) / 2, (bounds[1] + bounds[3]) / 2], [bounds]);
}
