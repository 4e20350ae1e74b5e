import { defaults as interactions } from "ol/interaction/defaults";
import OlMap from "ol/Map";
import type View from "ol/View";
import { useEffect, useRef, useState } from "react";
import type { Overlay } from "../desk/overlays";
import { toolOf, useDesk } from "../desk/store";
import { factsOf } from "../tools/tool";
import { useDrawing } from "../tools/useDrawing";
import { usePointer } from "../tools/usePointer";
import { useVertices } from "../tools/useVertices";
import type { Space } from "./space";
import { useOverlays } from "./useOverlays";

interface Props {
  view: View;
  space: Space;
  className?: string;
  label: string;
  onMap: (map: OlMap | null) => void;
  onBusy?: (busy: boolean) => void;
  onPin: () => void;
  /** Whether it stays where it is: nothing that the pointer does moves it. */
  still?: boolean;
  /** Overlays of this pane alone, instead of those of worksheets and tabs. */
  own?: Overlay[];
}

/** A pane of pixels with a view, the pointer's tools and overlays. Where its places are it knows from its space only. */
export function PixelPane({ view, space, className = "", label, onMap, onBusy, onPin, still = false, own }: Props) {
  const element = useRef<HTMLDivElement>(null);
  const [map, setMap] = useState<OlMap | null>(null);
  const cursor = useDesk((desk) => factsOf(toolOf(desk)).cursor);

  useEffect(() => {
    if (!element.current) return;
    const made = new OlMap({
      target: element.current,
      view,
      controls: [],
      interactions: still ? [] : interactions({ altShiftDragRotate: false, pinchRotate: false }),
    });
    setMap(made);
    onMap(made);
    return () => {
      made.setTarget(undefined);
      made.dispose();
      onMap(null);
    };
  }, [view, onMap, still]);

  useEffect(() => {
    if (!map || !onBusy) return;
    const start = () => onBusy(true);
    const end = () => onBusy(false);
    map.on("loadstart", start);
    map.on("loadend", end);
    return () => {
      map.un("loadstart", start);
      map.un("loadend", end);
    };
  }, [map, onBusy]);

  usePointer(map, space, onPin);
  useDrawing(map, space);
  useVertices(map, space);
  useOverlays(map, space, own);

  return <div ref={element} className={`pane ${className}`} style={{ cursor }} role="application" aria-label={label} />;
}
