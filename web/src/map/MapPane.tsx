import Feature from "ol/Feature";
import { LineString, Point } from "ol/geom";
import VectorLayer from "ol/layer/Vector";
import type OlMap from "ol/Map";
import VectorSource from "ol/source/Vector";
import type View from "ol/View";
import { useEffect, useMemo, useRef, useState } from "react";
import { useProject } from "../desk/context";
import type { Overlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { useEditing } from "../tools/useEditing";
import { useSnapping } from "../tools/useSnapping";
import { pinMark, previewBorder } from "./marks";
import { PixelPane } from "./PixelPane";
import { gridSpace, type Space } from "./space";
import { useDressed } from "./useDressed";
import { type Drawn, useSurfaces } from "./useSurfaces";

/** The dashed border of a preview. It belongs to A's side: it ends where the curtain hangs, at a share of the width. */
function usePreviewBorder(map: OlMap | null, space: Space, shownTo: number): void {
  const preview = useDesk((desk) => desk.preview);
  const borderEnd = useRef(1);
  borderEnd.current = shownTo;
  const bordered = shownTo > 0;
  useEffect(() => {
    if (!map || !bordered || !preview) return;
    const features = preview.outline.map((ring) => new Feature(new LineString(ring.map(space.toPane))));
    const layer = new VectorLayer({ source: new VectorSource({ features }), style: previewBorder, zIndex: 60 });
    layer.on("prerender", (event) => {
      const context = event.context as CanvasRenderingContext2D;
      context.save();
      context.beginPath();
      context.rect(0, 0, context.canvas.width * borderEnd.current, context.canvas.height);
      context.clip();
    });
    layer.on("postrender", (event) => (event.context as CanvasRenderingContext2D).restore());
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, preview, bordered, space]);
}

/** Kept readings, by their numbers. */
function usePins(map: OlMap | null, space: Space): void {
  const pinned = useDesk((desk) => desk.pinned);
  useEffect(() => {
    if (!map || !pinned.length) return;
    const features = pinned.map(({ x, y }, i) => {
      const feature = new Feature(new Point(space.toPane([x, y])));
      feature.setStyle(pinMark(String(i + 1)));
      return feature;
    });
    const layer = new VectorLayer({ source: new VectorSource({ features }), zIndex: 61 });
    map.addLayer(layer);
    return () => {
      map.removeLayer(layer);
    };
  }, [map, pinned, space]);
}

interface Props {
  view: View;
  drawn: Drawn[];
  className?: string;
  label: string;
  onBusy?: (busy: boolean) => void;
  onPin: () => void;
  still?: boolean;
  /** Overlays of this pane alone, instead of those of worksheets and tabs. */
  own?: Overlay[];
}

/** One map: surfaces from the bottom up, then points and features, then overlays and marks. */
export function MapPane({ view, drawn, ...pane }: Props) {
  const { grid } = useProject().frame;
  const space = useMemo(() => gridSpace(grid), [grid]);
  const [map, setMap] = useState<OlMap | null>(null);
  useSurfaces(map, view, drawn);
  useDressed(map, grid);
  usePreviewBorder(map, space, drawn.find((one) => one.id === "preview")?.to ?? 0);
  usePins(map, space);
  useEditing(map, space);
  useSnapping(map, space);
  return <PixelPane view={view} space={space} onMap={setMap} {...pane} />;
}
