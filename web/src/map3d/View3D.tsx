import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { call, type Profile } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { metresIn, num } from "../desk/format";
import { useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";
import { pixelsOf, sourceName, useBackdrops } from "../map/backdrops";
import { SlotChip } from "../map/SlotChip";
import { gridSpace } from "../map/space";
import { originOf, topLevel } from "../map/surfaceLayer";
import { ToolHint } from "../map/ToolHint";
import { useTilePath } from "../map/tilePath";
import { type Shown, useShown } from "../map/useShown";
import { Button } from "../ui/Button";
import { Scene, type Walk } from "./scene";
import type { Skin } from "./skin";
import { useTools3D } from "./useTools3D";
import styles from "./view3D.module.css";

type Which = "a" | "b" | "split" | "both";
const WHICH: [Which, string][] = [
  ["a", "A"],
  ["b", "B"],
  ["split", "Split"],
  ["both", "B over A"],
];
const PACE = 45; // seconds for a whole line

/** The surfaces of the slots in three dimensions, in the map's place. */
export default function View3D() {
  const project = useProject();
  const metres = metresIn(project.frame.unit);
  const path = useTilePath(project);
  const grid = project.frame.grid;
  const { a, b } = useHeld();
  const [shownA, shownB] = [useShown(a), useShown(b)];
  const looks = useDesk((desk) => desk.looks);
  const light = useDesk((desk) => desk.light);
  const line = useDesk((desk) => desk.line);
  const set = useDesk((desk) => desk.set);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [scene, setScene] = useState<Scene | null>(null);
  const [refused, setRefused] = useState("");
  const [state, setState] = useState({ whole: false, trouble: "" });
  const [asked, setWhich] = useState<Which>("a");
  const [rise, setRise] = useState(1.5);
  // the split goes through what the map showed
  const [share, setShare] = useState(() => {
    const x = useDesk.getState().view?.center[0];
    return x === undefined ? 0.5 : Math.min(Math.max((x - grid.west) / (grid.cols * grid.cell_width), 0.01), 0.99);
  });
  const [walked, setWalked] = useState<number | null>(null);
  const [walking, setWalking] = useState(false);
  const which: Which = a && b ? asked : a ? "a" : "b";
  // each change lays all tiles over anew
  const backdrops = useSettled(useBackdrops(), 300);
  const drapes = useMemo(
    () => backdrops.map((one) => ({ name: sourceName(one), opacity: one.opacity, load: pixelsOf(project, path, one) })),
    [backdrops, project, path],
  );
  const middle = useRef(0);
  middle.current = (looks.height.range[0] + looks.height.range[1]) / 3;

  // the view counts when it is turned into three dimensions, not after
  useEffect(() => {
    if (!canvas.current) return;
    const ground = { rows: grid.rows, cols: grid.cols, cell: grid.cell_width, top: topLevel(grid) };
    let made: Scene;
    try {
      made = new Scene(canvas.current, path, ground, () => middle.current);
    } catch {
      setRefused("This browser cannot draw in three dimensions: it offers no WebGL 2.");
      return;
    }
    const box = canvas.current.parentElement;
    const measure = () => box && made.resize(box.clientWidth, box.clientHeight);
    measure();
    const [west, south] = originOf(grid);
    const { view } = useDesk.getState();
    const [x, y] = view
      ? view.center
      : [west + (grid.cols * grid.cell_width) / 2, south + (grid.rows * grid.cell_height) / 2];
    made.lookAt(x - west, y - south, Math.min((view?.resolution ?? 8) * 560, grid.rows * grid.cell_height));
    made.onDrawn = (whole, trouble) =>
      setState((before) => (before.whole === whole && before.trouble === trouble ? before : { whole, trouble }));
    window.addEventListener("resize", measure);
    setScene(made);
    return () => {
      window.removeEventListener("resize", measure);
      setScene(null);
      made.dispose();
    };
  }, [path, grid]);

  useEffect(() => {
    if (!scene) return;
    const looked = Boolean(a?.lookedAt);
    const skin = (what: Shown | undefined, between: [number, number] = [0, 1], opacity = 1): Skin[] =>
      what
        ? [
            {
              key: what.key,
              coarse: what.coarse,
              lit: what.quantity === "height",
              look: looks[what.quantity],
              light,
              rise: rise * metres,
              between,
              opacity,
              drapes,
              steady: looked && what === shownA,
            },
          ]
        : [];
    if (which === "split") scene.show([...skin(shownA, [0, share]), ...skin(shownB, [share, 1])]);
    else if (which === "both") scene.show([...skin(shownA), ...skin(shownB, [0, 1], 0.55)]);
    else scene.show(skin(which === "a" ? shownA : shownB));
  }, [scene, which, share, shownA, shownB, looks, light, rise, metres, drapes, a?.lookedAt]);

  const space = useMemo(() => gridSpace(grid), [grid]);
  const [board, setBoard] = useState<HTMLCanvasElement | null>(null);
  useTools3D(scene, board, space);
  const AtMap = useDesk((desk) => desk.atMap);

  const along = a ?? b;
  const { data } = useQuery({
    queryKey: KEYS.profile(project.id, along ? [along.key] : [], line),
    queryFn: ({ signal }) =>
      call<Profile>("POST", `/projects/${project.id}/profiles`, { keys: [along?.key], line }, signal),
    enabled: line !== null && along !== undefined,
    staleTime: Infinity,
    retry: false,
  });
  const [west, south] = originOf(grid);
  const walk = useRef<Walk | null>(null);
  useEffect(() => {
    const course = along && data?.courses[along.key];
    walk.current =
      data && course
        ? {
            x: data.x.map((value) => value - west),
            y: data.y.map((value) => value - south),
            heights: course.heights,
            distance: data.distance,
          }
        : null;
    scene?.trace(walk.current);
  }, [scene, data, along, west, south]);
  const [keyA, keyB] = which === "split" && a && b ? [a.key, b.key] : [];
  const between = useSettled(west + share * grid.cols * grid.cell_width, 150);
  const { data: step } = useQuery({
    queryKey: KEYS.profile(project.id, [keyA, keyB], between),
    queryFn: ({ signal }) => {
      const line = [grid.north, south].map((y) => [between, y]);
      return call<Profile>(
        "POST",
        `/projects/${project.id}/profiles`,
        { keys: [keyA, keyB], line, cells: true },
        signal,
      );
    },
    enabled: keyA !== undefined,
    staleTime: Infinity,
    retry: false,
  });
  const isWalled =
    step !== undefined && keyA !== undefined && shownA?.quantity === "height" && shownB?.quantity === "height";
  useEffect(() => {
    const heights = step && isWalled ? [keyA, keyB].map((key) => key && step.courses[key]?.heights) : [];
    const [ofA, ofB] = heights;
    scene?.close(
      step && ofA && ofB ? { x: step.x.map((x) => x - west), y: step.y.map((y) => y - south), a: ofA, b: ofB } : null,
    );
  }, [scene, step, isWalled, keyA, keyB, west, south]);
  useEffect(() => {
    if (walked !== null && walk.current) scene?.walk(walk.current, walked);
  }, [scene, walked]);
  useEffect(() => {
    if (!walking) return;
    let last = 0;
    let frame = 0;
    const step = (now: number) => {
      const passed = last ? Math.min(now - last, 200) / 1000 : 0;
      last = now;
      setWalked((before) => {
        const next = (before ?? 0) + passed / PACE;
        if (next >= 1) setWalking(false);
        return Math.min(next, 1);
      });
      frame = requestAnimationFrame(step);
    };
    frame = requestAnimationFrame(step);
    return () => cancelAnimationFrame(frame);
  }, [walking]);

  // a place to go to, asked for elsewhere on the desk, is on the map
  const goTo = useDesk((desk) => desk.goTo);
  useEffect(() => {
    if (goTo) set({ bench: "map" });
  }, [goTo, set]);

  return (
    <div className="map three" role="region" aria-label="Three dimensions" aria-busy={!state.whole}>
      <canvas
        ref={canvas}
        tabIndex={0}
        aria-label="Surface in three dimensions"
        onKeyDown={(event) => {
          const turned = {
            ArrowLeft: [-0.1, 0, 1],
            ArrowRight: [0.1, 0, 1],
            ArrowUp: [0, -0.06, 1],
            ArrowDown: [0, 0.06, 1],
            "+": [0, 0, 0.85],
            "-": [0, 0, 1.18],
          }[event.key];
          if (!turned) return;
          event.preventDefault();
          scene?.turn(...(turned as [number, number, number]));
        }}
      />
      <canvas ref={setBoard} className="board3d" aria-label="Outlines" />
      {AtMap && <AtMap />}
      <ToolHint />
      {!state.whole && !refused && <div className="busy" role="progressbar" aria-label="Loading the surface" />}
      <SlotChip slot="a" holding={a} />
      <SlotChip slot="b" holding={b} />
      <div className={styles.bar3d}>
        <Button onClick={() => set({ bench: "map" })}>Back to the map</Button>
        {a && b && (
          <span className="seg" role="radiogroup" aria-label="Surfaces in three dimensions">
            {WHICH.map(([value, title]) => (
              <label key={value}>
                <input type="radio" name="which3d" checked={which === value} onChange={() => setWhich(value)} />
                {title}
              </label>
            ))}
          </span>
        )}
        {keyA && (
          <input
            type="range"
            aria-label="Place of the split"
            title="Place of the split"
            min={0.01}
            max={0.99}
            step={0.001}
            value={share}
            onChange={(event) => setShare(Number(event.target.value))}
          />
        )}
        <label className={styles.rise3d}>
          Vertical exaggeration
          <input
            type="range"
            min={0.5}
            max={5}
            step={0.25}
            value={rise}
            onChange={(event) => setRise(Number(event.target.value))}
          />
          <span className="n">{num(rise, 2)}</span>
        </label>
        {data && (
          <span className={styles.walk3d}>
            <Button
              kind="link"
              onClick={() => {
                if (walked === 1) setWalked(0);
                setWalking(!walking);
              }}
            >
              {walking ? "Stand still" : "Walk the profile line"}
            </Button>
            {walked !== null && (
              <input
                type="range"
                aria-label="Place on the line"
                min={0}
                max={1}
                step={0.002}
                value={walked}
                onChange={(event) => {
                  setWalking(false);
                  setWalked(Number(event.target.value));
                }}
              />
            )}
          </span>
        )}
        <Button
          kind="link"
          onClick={async () => {
            const blob = await scene?.picture();
            if (!blob) return;
            const link = document.createElement("a");
            link.href = URL.createObjectURL(blob);
            link.download = `${(along?.name ?? project.name).replaceAll(/[^\w .-]/g, "_")}, 3D.png`;
            link.click();
            URL.revokeObjectURL(link.href);
          }}
        >
          PNG
        </Button>
      </div>
      {(refused || state.trouble || (!a && !b)) && (
        <div className="maphint">{refused || state.trouble || "Put a surface in A or B to see it here."}</div>
      )}
      {isWalled && (
        <div className={styles.hint3d}>The step at the split is ember where A is higher, indigo where B is</div>
      )}
    </div>
  );
}
