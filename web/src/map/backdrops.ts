import { useMemo } from "react";
import { bytes, picture as fetched, type Holding, type Project } from "../api/client";
import { quantityOf, useHeld } from "../desk/context";
import { type Look, useDesk } from "../desk/store";
import { colourAt, stopsOf } from "./ramps";
import type { TilePath } from "./tilePath";
import { useDress } from "./useDressed";

const SIDE = 258;

/** A picture under or over the surfaces: one with colours of its own, or a surface of grey values. */
export interface Backdrop {
  id: number;
  /** Of a surface of grey values. */
  key?: string;
  look?: Look;
  over: boolean;
  opacity: number;
}

/** Whether a holding can lie under or over surfaces: pictures, and orthoimages, which are surfaces of grey values. */
export const isBackdrop = (holding: Holding): boolean =>
  holding.kind === "picture" || (holding.kind === "surface" && quantityOf(holding) === "grey");

/** Grey values from darkest to brightest, as far as most of them reach, unless a range was typed. */
function greyLook(look: Look, { surface }: Holding): Look {
  const { mean, deviation, lowest, highest } = surface?.statistics ?? {};
  if (look.stretch === "typed" || mean == null || deviation == null) return look;
  return {
    ...look,
    range: [Math.max(mean - 2 * deviation, lowest ?? -Infinity), Math.min(mean + 2.5 * deviation, highest ?? Infinity)],
  };
}

/** What lies under and over the surfaces now, from the bottom up. */
export function useBackdrops(): Backdrop[] {
  const { all } = useHeld();
  const hidden = useDesk((desk) => desk.hidden);
  const grey = useDesk((desk) => desk.looks.grey);
  const dressOf = useDress();
  const found = all
    .filter((one) => isBackdrop(one) && hidden[one.id] === false)
    .map((one): Backdrop => {
      const { over, opacity } = dressOf(one);
      const surface = one.kind === "surface" ? { key: one.key, look: greyLook(grey, one) } : {};
      return { id: one.id, over, opacity, ...surface };
    })
    .reverse(); // holdings come newest first
  const told = JSON.stringify(found);
  return useMemo(() => JSON.parse(told) as Backdrop[], [told]);
}

/** What a backdrop is drawn from: with another name its tiles are others. */
export const sourceName = ({ id, key, look }: Backdrop): string => JSON.stringify([id, key, look]);

/** Loads red, green, blue and opacity of a backdrop's tiles, row by row; null where there is nothing of it. */
export function pixelsOf(project: Project, path: TilePath, { id, key, look }: Backdrop) {
  if (!key)
    return (level: number, col: number, row: number, signal?: AbortSignal) =>
      fetched(
        `/projects/${project.id}/pictures/${id}/tiles/${level}/${col}/${row}?frame=${project.frame.mark}`,
        signal,
      );
  const stops = look ? stopsOf(look) : [];
  const [low, high] = look?.range ?? [0, 1];
  const table = new Uint32Array(256);
  for (let i = 0; i < 256; i++) {
    const [red, green, blue] = [1, 3, 5].map((at) => Number.parseInt(colourAt(stops, i / 255).slice(at, at + 2), 16));
    table[i] = ((255 << 24) | ((blue ?? 0) << 16) | ((green ?? 0) << 8) | (red ?? 0)) >>> 0;
  }
  return async (level: number, col: number, row: number, signal?: AbortSignal) => {
    const body = await bytes(path(key, level, col, row), signal);
    if (!body) return null;
    const cells = new Float32Array(body);
    const pixels = new Uint32Array(SIDE * SIDE);
    for (let i = 0; i < pixels.length; i++) {
      const share = ((cells[i] as number) - low) / (high - low);
      if (!Number.isNaN(share)) pixels[i] = table[Math.round(255 * Math.min(Math.max(share, 0), 1))] as number;
    }
    return new Uint8ClampedArray(pixels.buffer);
  };
}

export type LoadPixels = ReturnType<typeof pixelsOf>;

/** Several backdrops seen from above, the last on top, as one picture. */
export function laidOver(parts: { pixels: Uint8ClampedArray | null; opacity: number }[]): Uint8ClampedArray | null {
  if (parts.every(({ pixels }) => !pixels)) return null;
  const out = new Uint8ClampedArray(SIDE * SIDE * 4);
  for (const { pixels, opacity } of parts) {
    if (!pixels) continue;
    for (let i = 0; i < out.length; i += 4) {
      const own = ((pixels[i + 3] as number) / 255) * opacity;
      if (own === 0) continue;
      const below = ((out[i + 3] as number) / 255) * (1 - own);
      const whole = own + below;
      for (let band = i; band < i + 3; band++)
        out[band] = ((pixels[band] as number) * own + (out[band] as number) * below) / whole;
      out[i + 3] = 255 * whole;
    }
  }
  return out;
}
