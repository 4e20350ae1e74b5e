import type OlMap from "ol/Map";
import type MapBrowserEvent from "ol/MapBrowserEvent";
import { useEffect, useRef } from "react";
import { toolOf, useDesk } from "../desk/store";
import type { Space } from "../map/space";

const PAUSE = 50; // milliseconds between two readings while the pointer moves

/** What moving and pressing the pointer does: reading, keeping a reading, pressing a mark, choosing a place. */
export function usePointer(map: OlMap | null, space: Space, onPin: () => void): void {
  const set = useDesk((desk) => desk.set);
  const pin = useRef(onPin);
  pin.current = onPin;
  useEffect(() => {
    if (!map) return;
    let waiting = 0;
    let last: number[] | null = null;
    const show = () => {
      waiting = 0;
      if (last) set({ pointer: space.toPlace(last), overMap: true });
    };
    const move = (event: MapBrowserEvent) => {
      if (event.dragging) return;
      last = event.coordinate;
      waiting ||= window.setTimeout(show, PAUSE);
    };
    const click = (event: MapBrowserEvent) => {
      const tool = toolOf(useDesk.getState());
      const [x, y] = space.toPlace(event.coordinate);
      if (tool.kind === "pick") tool.press({ x, y, resolution: map.getView().getResolution() ?? 1 });
      if (tool.kind !== "read" && tool.kind !== "vertices") return;
      const press = map.forEachFeatureAtPixel(
        event.pixel,
        (feature) => feature.get("press") as (() => void) | undefined,
      );
      if (press) return press();
      if (tool.kind !== "read") return;
      set({ pointer: [x, y] });
      window.setTimeout(() => pin.current(), 0);
    };
    const leave = () => {
      window.clearTimeout(waiting);
      waiting = 0;
      set({ overMap: false });
    };
    const viewport = map.getViewport();
    viewport?.addEventListener("pointerleave", leave);
    map.on("pointermove", move);
    map.on("singleclick", click);
    return () => {
      window.clearTimeout(waiting);
      viewport?.removeEventListener("pointerleave", leave);
      map.un("pointermove", move);
      map.un("singleclick", click);
    };
  }, [map, space, set]);
}
