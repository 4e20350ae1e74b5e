import { useMemo } from "react";
import type { Project } from "../api/client";

/** Where a tile of a surface is asked for: by key, level, column and row, and whether what nearly stands for it will do. */
export type TilePath = (key: string, level: number, col: number, row: number, rough?: boolean) => string;

/** The addresses of a project's tiles. They name the frame, so that a browser shows no tile of another one. */
export function useTilePath({ id, frame }: Project): TilePath {
  return useMemo(
    () => (key, level, col, row, rough) =>
      `/projects/${id}/tiles/${key}/${level}/${col}/${row}?frame=${frame.mark}${rough ? "&rough=true" : ""}`,
    [id, frame.mark],
  );
}
