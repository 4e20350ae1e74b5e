import View from "ol/View";
import { useCallback, useEffect, useMemo, useState } from "react";
import type { Holding } from "../api/client";
import { quantityOf, useHeld, useProject } from "../desk/context";
import { type ShownPreview, useDesk } from "../desk/store";
import { usePin } from "../desk/usePin";
import { Button } from "../ui/Button";
import { useBackdrops } from "./backdrops";
import { Curtain } from "./Curtain";
import { KindsKey } from "./KindsKey";
import { MapPane } from "./MapPane";
import { Modes } from "./Modes";
import styles from "./mapView.module.css";
import { ScaleBar } from "./ScaleBar";
import { Several } from "./Several";
import { SlotChip } from "./SlotChip";
import { extentOf, originOf, projectionOf } from "./surfaceLayer";
import { ToolHint } from "./ToolHint";
import { useDifference } from "./useDifference";
import { useGraticule } from "./useGraticule";
import { type Shown, useShown } from "./useShown";
import { type Drawn, drawnBackdrop } from "./useSurfaces";

/** Says that a preview lies on the map in A's place, or does not, and gives A back. */
function PreviewTag({ preview, a, minus }: { preview: ShownPreview; a: Holding | undefined; minus: boolean }) {
  const set = useDesk((desk) => desk.set);
  if (minus) return <div className={`tag ${styles.previewtag}`}>A as it is, without the preview</div>;
  return (
    <div className={`tag ${styles.previewtag}`}>
      {preview.title ?? "preview"}
      {a && preview.of && (
        <Button kind="link" onClick={() => set({ previewOn: false })}>
          Show {a.name}
        </Button>
      )}
    </div>
  );
}

/** The map with its slots, ways of comparing, scale and zoom. */
export function MapView() {
  const project = useProject();
  const grid = project.frame.grid;
  const [originX, originY] = originOf(grid);
  const { a, b, surfaces, isLoading } = useHeld();
  const chosen = useDesk((desk) => desk.mode);
  const curtain = useDesk((desk) => desk.curtain);
  const blinkB = useDesk((desk) => desk.blinkB);
  const blinkHeld = useDesk((desk) => desk.blinkHeld);
  const preview = useDesk((desk) => desk.preview);
  const goTo = useDesk((desk) => desk.goTo);
  const kept = useDesk((desk) => desk.view);
  const set = useDesk((desk) => desk.set);
  const AtMap = useDesk((desk) => desk.atMap);
  const [busy, setBusy] = useState(false);
  const [resolution, setResolution] = useState(10);
  const mode = a && b ? chosen : "alone";
  const difference = useDifference(a, b, mode === "minus");
  const [shownA, shownB] = [useShown(a), useShown(b)];
  const pin = usePin();
  useGraticule(project.id);

  // biome-ignore lint/correctness/useExhaustiveDependencies: the kept view counts when a project is opened, not after
  const view = useMemo(() => {
    const extent = extentOf(grid);
    const [west, south, east, north] = extent;
    const margin = Math.max(east - west, north - south) / 2;
    const made = new View({
      projection: projectionOf(grid),
      extent: [west - margin, south - margin, east + margin, north + margin],
      constrainOnlyCenter: true,
      enableRotation: false,
      minResolution: grid.cell_width / 32,
      maxResolution: Math.max((east - west) / 300, (north - south) / 300),
      center: kept ? [kept.center[0] - originX, kept.center[1] - originY] : [(west + east) / 2, (south + north) / 2],
      resolution: kept?.resolution ?? Math.max((east - west) / 800, (north - south) / 540),
    });
    return made;
  }, [grid, project.id]);

  useEffect(() => {
    let timer = 0;
    const settle = () => {
      const [left = 0, bottom = 0] = view.getCenter() ?? [];
      const [x, y] = [left + originX, bottom + originY];
      const at = view.getResolution() ?? 1;
      const pane = document.querySelector(".map")?.getBoundingClientRect();
      const halfWidth = ((pane?.width ?? 800) / 2) * at;
      const halfHeight = ((pane?.height ?? 500) / 2) * at;
      set({
        view: { center: [x, y], resolution: at },
        bounds: [x - halfWidth, y - halfHeight, x + halfWidth, y + halfHeight],
      });
    };
    const moved = () => {
      setResolution(view.getResolution() ?? 1);
      window.clearTimeout(timer);
      timer = window.setTimeout(settle, 160);
    };
    moved();
    view.on("change", moved);
    window.addEventListener("resize", moved);
    return () => {
      window.clearTimeout(timer);
      view.un("change", moved);
      window.removeEventListener("resize", moved);
    };
  }, [view, set, originX, originY]);

  useEffect(() => {
    if (!goTo) return;
    if (goTo === "whole") view.fit(extentOf(grid), { padding: [10, 10, 10, 10], duration: 200 });
    else if (goTo === "in" || goTo === "out")
      view.animate({ zoom: (view.getZoom() ?? 0) + (goTo === "in" ? 1 : -1), duration: 160 });
    else
      view.animate({
        center: [goTo.x - originX, goTo.y - originY],
        resolution: goTo.resolution ?? Math.min(view.getResolution() ?? 5, 3),
        duration: 250,
      });
    set({ goTo: null });
  }, [goTo, view, grid, set, originX, originY]);

  // a desk that has never been used starts with the newest surface, of heights where there is one
  const newest = (surfaces.find((one) => quantityOf(one) === "height") ?? surfaces[0])?.key;
  const begun = useDesk((desk) => desk.begun);
  const put = useDesk((desk) => desk.put);
  useEffect(() => {
    if (newest && !begun) put("a", newest);
  }, [newest, begun, put]);

  // automatic blinking at 1 Hz, unless the key is held
  useEffect(() => {
    if (mode !== "blink" || blinkHeld) return;
    const timer = window.setInterval(() => set({ blinkB: !useDesk.getState().blinkB }), 500);
    return () => window.clearInterval(timer);
  }, [mode, blinkHeld, set]);

  const [left, right] = useMemo((): [Drawn[], Drawn[]] => {
    const one = (id: string, what: Shown, from = 0, to = 1): Drawn => ({ id, ...what, from, to });
    const showB = (blinkHeld || mode === "blink") && blinkB;
    const split = mode === "curtain" && !blinkHeld ? curtain : 1;
    const inA: Drawn[] = shownA ? [{ ...one("a", shownA, 0, split), steady: Boolean(a?.lookedAt) }] : [];
    if (preview && a?.key !== preview.key) inA.push({ ...preview, id: "preview", from: 0, to: split });
    if (mode === "minus" && !blinkHeld)
      return [
        difference.key
          ? [{ id: "minus", key: difference.key, quantity: "difference", coarse: false, from: 0, to: 1 }]
          : [],
        [],
      ];
    if (!shownB) return [inA, []];
    if (mode === "pair") return [inA, [one("b", shownB)]];
    if (mode === "curtain" && !blinkHeld) return [[...inA, one("b", shownB, split, 1)], []];
    if (mode === "blink" || blinkHeld) {
      // both stay loaded; only one of them has any width to draw on
      const hide = (all: Drawn[]) => all.map((item) => ({ ...item, to: item.from }));
      const inB = [one("b", shownB)];
      return [showB ? [...hide(inA), ...inB] : [...inA, ...hide(inB)], []];
    }
    return [inA, []];
  }, [a, shownA, shownB, mode, curtain, blinkB, blinkHeld, preview, difference.key]);

  const backdrops = useBackdrops();
  const among = useCallback(
    (surfaces: Drawn[]) => [
      ...backdrops.filter((one) => !one.over).map(drawnBackdrop),
      ...surfaces,
      ...backdrops.filter((one) => one.over).map(drawnBackdrop),
    ],
    [backdrops],
  );
  const [drawnLeft, drawnRight] = useMemo(() => [among(left), among(right)], [among, left, right]);

  const pair = mode === "pair";
  return (
    <div className="map" role="region" aria-label="Map">
      {busy && <div className="busy" role="progressbar" aria-label="Loading the map" />}
      {mode === "several" ? (
        <Several view={view} among={among} onBusy={setBusy} onPin={pin} />
      ) : (
        <MapPane
          view={view}
          drawn={drawnLeft}
          className={pair ? "left" : ""}
          label={pair ? "Map of A" : "Map"}
          onBusy={setBusy}
          onPin={pin}
        />
      )}
      {pair && <MapPane view={view} drawn={drawnRight} className="right" label="Map of B" onPin={pin} />}
      {pair && (
        <>
          <div className="panelabel" style={{ right: "calc(50% + 12px)", background: "var(--ember)" }}>
            A
          </div>
          <div className="panelabel" style={{ left: "calc(50% + 12px)", background: "var(--indigo)" }}>
            B
          </div>
        </>
      )}
      {mode === "curtain" && <Curtain />}
      {mode === "blink" && (
        <div
          className="panelabel"
          style={{ left: "calc(50% - 11px)", background: blinkB ? "var(--indigo)" : "var(--ember)" }}
        >
          {blinkB ? "B" : "A"}
        </div>
      )}
      {preview && a?.key !== preview.key && (
        <PreviewTag minus={mode === "minus" || mode === "several"} a={a} preview={preview} />
      )}
      <SlotChip
        slot="a"
        holding={a}
        preview={mode === "minus" || mode === "several" || a?.key === preview?.key ? null : preview}
      />
      <Modes both={Boolean(a && b)} />
      <SlotChip slot="b" holding={b} />
      {!isLoading && surfaces.length === 0 && !preview && (
        <div className="maphint">
          No surface yet. Add files in <b>Gather</b>, or interpolate points in <b>Build</b>.
        </div>
      )}
      {mode === "minus" && difference.error && <div className="maphint">{difference.error.message}</div>}
      {mode === "minus" &&
        difference.findings
          .filter((finding) => finding.weight === "stop")
          .map((finding) => (
            <div className="maphint" key={finding.code}>
              {finding.sentence} {finding.why}
            </div>
          ))}
      {AtMap && mode !== "several" && <AtMap />}
      <KindsKey />
      <ToolHint />
      <ScaleBar resolution={resolution} />
      <div className="zoom">
        <button type="button" className="n" aria-label="3D, three dimensions" onClick={() => set({ bench: "scene" })}>
          3D
        </button>
        <button type="button" aria-label="Zoom in" onClick={() => set({ goTo: "in" })}>
          <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
            <path d="M6 1v10M1 6h10" />
          </svg>
        </button>
        <button type="button" aria-label="Zoom out" onClick={() => set({ goTo: "out" })}>
          <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
            <path d="M1 6h10" />
          </svg>
        </button>
        <button type="button" aria-label="Whole frame" onClick={() => set({ goTo: "whole" })}>
          <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
            <path d="M1 3.5V1h2.500M8.500 1H11v2.500M11 8.500V11H8.500M3.500 11H1V8.500" />
          </svg>
        </button>
      </div>
    </div>
  );
}
