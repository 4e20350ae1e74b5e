import type VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import { useEffect, useRef } from "react";
import type { Overlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { overlayLayer } from "./overlayLayers";
import type { Space } from "./space";

/**
 * Draws what worksheets and tabs show over the surfaces, or a pane's own overlays instead where it has some; only what changed is
 * made anew.
 */
export function useOverlays(map: OlMap | null, space: Space, own?: Overlay[]): void {
  const shared = useDesk((desk) => desk.overlays);
  const overlays = own ?? shared;
  const layers = useRef(new Map<Overlay, VectorLayer>());
  useEffect(() => {
    if (!map) return;
    const held = layers.current;
    for (const [overlay, layer] of held) {
      if (overlays.includes(overlay)) continue;
      map.removeLayer(layer);
      held.delete(overlay);
    }
    for (const overlay of overlays) {
      if (held.has(overlay)) continue;
      const layer = overlayLayer(overlay, space);
      held.set(overlay, layer);
      map.addLayer(layer);
    }
  }, [map, overlays, space]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: on another map, or in another space, all is drawn again
  useEffect(() => {
    const held = layers.current;
    return () => {
      for (const layer of held.values()) map?.removeLayer(layer);
      held.clear();
    };
  }, [map, space]);
}
