import type OlMap from "ol/Map";
import type View from "ol/View";
import { useEffect, useRef } from "react";
import type { Quantity } from "../api/client";
import { useProject } from "../desk/context";
import { metresIn } from "../desk/format";
import { useDesk } from "../desk/store";
import { type Backdrop, pixelsOf, sourceName } from "./backdrops";
import { stopsOf } from "./ramps";
import { isLit, lightOf, styleOf } from "./style";
import { backdropLayer, drawnCell, riseAt, type SurfaceLayer, surfaceLayer } from "./surfaceLayer";
import { useTilePath } from "./tilePath";

/** A surface on a pane; `from` and `to` are the shares of the pane's width that it may draw on. */
export interface Drawn {
  id: string;
  key: string;
  quantity: Quantity;
  coarse: boolean;
  rough?: boolean;
  /** So many times as many cells along each side as the frame has. */
  finer?: number;
  from: number;
  to: number;
  /** Whether it stays in sight until what takes its place is loaded. */
  steady?: boolean;
  /** From 0, unseen, to 1; a backdrop has its own. */
  opacity?: number;
  /** Where it is a picture and no surface. */
  backdrop?: Backdrop;
}

/** A backdrop as it is drawn, over the whole pane. */
export const drawnBackdrop = (backdrop: Backdrop): Drawn => ({
  id: `backdrop${backdrop.id}`,
  key: "",
  quantity: "grey",
  coarse: false,
  from: 0,
  to: 1,
  backdrop,
});

const UNSEEN = 1e8; // levels no height reaches

/** Surfaces on a map, from the bottom up: layers come and go with what is drawn, and are styled anew without loading again. */
export function useSurfaces(map: OlMap | null, view: View, drawn: Drawn[]): void {
  const project = useProject();
  const metres = metresIn(project.frame.unit);
  const path = useTilePath(project);
  const grid = project.frame.grid;
  const looks = useDesk((desk) => desk.looks);
  const light = useDesk((desk) => desk.light);
  const levels = useDesk((desk) => desk.levels);
  const layers = useRef(new Map<string, { layer: SurfaceLayer; styled: string; backdrop: boolean }>());
  const staying = useRef(new Set<string>());
  const clips = useRef(new Map<string, { from: number; to: number; first: boolean }>());
  useEffect(() => {
    if (!map) return;
    const held = layers.current;
    // a shade comes with the tiles: with another the layer is another
    const nameOf = (one: (typeof drawn)[number]) =>
      one.backdrop
        ? `${one.id}:${sourceName(one.backdrop)}`
        : `${one.id}:${one.key}:${isLit(one.quantity) ? light.shade : "none"}`;
    const wanted = new Set(drawn.map(nameOf));
    const remove = (id: string) => {
      const entry = held.get(id);
      if (!entry) return;
      map.removeLayer(entry.layer);
      entry.layer.dispose();
      held.delete(id);
      clips.current.delete(id);
      staying.current.delete(id);
    };
    // what is looked at while it changes stays below what takes its place until that is there, so that nothing flickers
    const leaving = new Map<string, string>();
    for (const id of [...held.keys()]) {
      if (wanted.has(id)) staying.current.delete(id);
      if (wanted.has(id) || staying.current.has(id)) continue;
      const next = drawn.find((one) => !one.backdrop && one.steady && nameOf(one).startsWith(`${id.split(":")[0]}:`));
      if (next && !held.has(nameOf(next))) leaving.set(nameOf(next), id);
      else remove(id);
    }
    drawn.forEach((one, order) => {
      const id = nameOf(one);
      const look = looks[one.quantity];
      const styled = JSON.stringify([stopsOf(look), one.quantity, light.several]);
      const below = leaving.get(id);
      clips.current.set(id, { from: one.from, to: one.to, first: order === 0 && !below });
      if (below) {
        staying.current.add(below);
        clips.current.set(below, { from: one.from, to: one.to, first: order === 0 });
        held.get(below)?.layer.setZIndex(order - 0.5);
        map.once("rendercomplete", () => {
          const clip = clips.current.get(id);
          if (clip && order === 0) clip.first = true;
          if (staying.current.has(below)) remove(below);
          map.render();
        });
      }
      let entry = held.get(id);
      if (!entry) {
        const layer = one.backdrop
          ? backdropLayer(pixelsOf(project, path, one.backdrop), grid)
          : surfaceLayer(path, one.key, grid, look, one.quantity, one.coarse, light, {
              rough: one.rough,
              finer: one.finer,
            });
        layer.on("prerender", (event) => {
          const gl = event.context as WebGLRenderingContext;
          const { from, to, first } = clips.current.get(id) ?? { from: 0, to: 1, first: true };
          const { width, height } = gl.canvas;
          if (first) {
            // layers share one canvas, which the library clears only where the first of them may draw
            gl.disable(gl.SCISSOR_TEST);
            gl.clearColor(0, 0, 0, 0);
            gl.clear(gl.COLOR_BUFFER_BIT);
          }
          gl.enable(gl.SCISSOR_TEST);
          gl.scissor(Math.round(from * width), 0, Math.round(to * width) - Math.round(from * width), height);
        });
        layer.on("postrender", (event) => {
          const gl = event.context as WebGLRenderingContext;
          gl.disable(gl.SCISSOR_TEST);
        });
        entry = { layer, styled, backdrop: Boolean(one.backdrop) };
        held.set(id, entry);
        map.addLayer(layer);
      } else if (entry.styled !== styled && !one.backdrop) {
        entry.layer.setStyle(styleOf(look, one.quantity, one.coarse, light));
        entry.styled = styled;
      }
      entry.layer.setZIndex(order);
      entry.layer.setOpacity(one.backdrop?.opacity ?? one.opacity ?? 1);
      if (one.backdrop) return;
      const [low, high] = look.range;
      const cell = drawnCell(grid, view.getResolution() ?? grid.cell_width);
      const [under, over] = (one.quantity === "height" && levels) || [-UNSEEN, UNSEEN];
      entry.layer.updateStyleVariables({
        ...lightOf(light),
        low,
        high: Math.max(high, low + 1e-6),
        cell,
        rise: light.rise * riseAt(cell) * metres,
        under,
        over,
      });
    });
    map.render();
  }, [map, drawn, looks, light, levels, path, grid, view, metres, project]);

  useEffect(() => {
    const relight = () => {
      const cell = drawnCell(grid, view.getResolution() ?? grid.cell_width);
      for (const { layer, backdrop } of layers.current.values())
        if (!backdrop) layer.updateStyleVariables({ cell, rise: light.rise * riseAt(cell) * metres });
    };
    view.on("change:resolution", relight);
    return () => view.un("change:resolution", relight);
  }, [view, grid, light.rise, metres]);

  useEffect(() => {
    const held = layers.current;
    return () => held.clear();
  }, []);
}
