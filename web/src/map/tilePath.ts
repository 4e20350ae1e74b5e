import { useMemo } from "react";
import type { Project } from "../api/client";
import type { Shade } from "../desk/store";

/** What a tile is asked with: whether what nearly stands for the surface will do, and a shade whose tone comes with it. */
export interface TileKind {
  rough?: boolean;
  /** So many times as many cells along each side as the frame has. */
  finer?: number;
  shade?: Shade;
}

/** Where a tile of a surface is asked for: by key, level, column and row. */
export type TilePath = (key: string, level: number, col: number, row: number, kind?: TileKind) => string;

/** The addresses of a project's tiles. They name the frame, so that a browser shows no tile of another one. */
export function useTilePath({ id, frame }: Project): TilePath {
  return useMemo(
    () =>
      (key, level, col, row, { rough = false, finer = 1, shade = "none" } = {}) => {
        const more = `${rough ? "&rough=true" : ""}${finer > 1 ? `&finer=${finer}` : ""}${shade === "none" ? "" : `&shade=${shade}`}`;
        return `/projects/${id}/tiles/${key}/${level}/${col}/${row}?frame=${frame.mark}${more}`;
      },
    [id, frame.mark],
  );
}
