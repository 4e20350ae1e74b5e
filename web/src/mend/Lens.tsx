import View from "ol/View";
import { useEffect, useMemo, useRef, useState } from "react";
import { useFigures } from "../api/queries";
import { useProject } from "../desk/context";
import { num, percent } from "../desk/format";
import { useDesk } from "../desk/store";
import { MapPane } from "../map/MapPane";
import { gridSpace } from "../map/space";
import { projectionOf } from "../map/surfaceLayer";
import type { Drawn } from "../map/useSurfaces";
import { Button } from "../ui/Button";
import { Card } from "../ui/Radio";
import styles from "./lens.module.css";
import { useMend } from "./state";
import { useImages, useJump, useOrtho } from "./useLens";
import { useMendedStack } from "./useMended";

type Shown = "left" | "right" | "blink";
const TITLES: Record<Shown, string> = { left: "Left", right: "Right", blink: "Blink" };
const BLINK = 500; // milliseconds that each picture stands
const LEAST = 160; // points along a side

/** A picture that was kept: what both images looked like through the surface then. */
interface Kept {
  left: string | null;
  right: string | null;
}

const layer = (id: string, key: string | null, from: number, to: number): Drawn[] =>
  key ? [{ id, key, quantity: "grey", coarse: false, from, to, steady: true }] : [];

const nothing = () => undefined;

/** Says how far the ground inside the open outline jumps between the images. */
function JumpLine({ images }: { images: ReturnType<typeof useImages> }) {
  const { all } = useMendedStack();
  const chosen = useMend((mend) => mend.chosen);
  const entry = all.find((one) => one.name === chosen);
  const { now, before, alike, alikeBefore, error, data } = useJump(images, entry);
  if (!entry) return <span className="mut">Open a patch to see how far its ground jumps.</span>;
  if (error) return <span className="err">{error.message}</span>;
  if (!data) return <span className="mut">Comparing both images…</span>;
  if (now == null)
    return <span className="mut">The images look alike nowhere inside the outline, so that no jump can be told.</span>;
  return (
    <span title="Nine tenths of the cells inside, where both images look alike, jump less than that">
      jumps <b className="n">{num(now, 1)}</b> cells inside{before != null && `, ${num(before, 1)} before`}; alike on{" "}
      <b className="n">{percent(alike ?? 0)}</b>
      {alikeBefore !== undefined && `, ${percent(alikeBefore)} before`}
    </span>
  );
}

/** A window on the map that shows the images of the pair through the surface as it is now. */
export function Lens() {
  const { frame, id } = useProject();
  const images = useImages();
  const lens = useMend((mend) => mend.lens);
  const set = useMend((mend) => mend.set);
  const seen = useDesk((desk) => desk.view);
  const box = useRef<HTMLElement>(null);
  const [place, setPlace] = useState<[number, number] | null>(null);
  const [shown, setShown] = useState<Shown>("blink");
  const [second, setSecond] = useState(false);
  const [kept, setKept] = useState<Kept | null>(null);
  const [wipe, setWipe] = useState(0.5);
  const left = useOrtho(images, "left");
  const right = useOrtho(images, "right");
  const { width, height } = lens ?? { width: 280, height: 170 };

  const view = useMemo(
    () =>
      new View({
        projection: projectionOf(frame.grid),
        center: [0, 0],
        resolution: 1,
        constrainResolution: false,
        minResolution: 1e-9,
        enableRotation: false,
      }),
    [frame.grid],
  );
  const space = useMemo(() => gridSpace(frame.grid), [frame.grid]);

  // the ground under the lens: as far from the map's middle as the lens is from it on the screen
  // biome-ignore lint/correctness/useExhaustiveDependencies: where the lens stands and how large it is moves its ground
  useEffect(() => {
    const map = box.current?.closest(".map")?.getBoundingClientRect();
    const pane = box.current?.querySelector("[data-lens]")?.getBoundingClientRect();
    if (!map || !pane || !seen) return;
    const across = (pane.left + pane.width / 2 - map.left - map.width / 2) * seen.resolution;
    const down = (pane.top + pane.height / 2 - map.top - map.height / 2) * seen.resolution;
    view.setCenter(space.toPane([seen.center[0] + across, seen.center[1] - down]));
    view.setResolution(seen.resolution);
  }, [seen, view, space, place, width, height]);

  useEffect(() => {
    if (shown !== "blink") return setSecond(shown === "right");
    const timer = window.setInterval(() => setSecond((before) => !before), BLINK);
    return () => window.clearInterval(timer);
  }, [shown]);

  // grey values from dark to bright, as far as most of those in view reach
  const bounds = useDesk((desk) => desk.bounds);
  const look = useDesk((desk) => desk.look);
  const keys = useMemo(() => [left.key, right.key].filter((key): key is string => key !== null), [left.key, right.key]);
  const { data: figures } = useFigures(id, keys, bounds);
  const told = figures?.[left.key ?? ""];
  const [low, high] = [told?.low2, told?.high98];
  useEffect(() => {
    if (low != null && high != null && high > low) look("grey", { range: [low, high], stretch: "typed" });
  }, [low, high, look]);

  const drawn = useMemo(() => {
    const hide = (all: Drawn[]) => all.map((one) => ({ ...one, to: one.from }));
    const of = (side: "left" | "right", ortho: string | null) => [
      ...layer(`kept-${side}`, kept?.[side] ?? null, 0, wipe),
      ...layer(side, ortho, kept ? wipe : 0, 1),
    ];
    const [one, other] = [of("left", left.key), of("right", right.key)];
    return second ? [...hide(one), ...other] : [...one, ...hide(other)];
  }, [left.key, right.key, kept, wipe, second]);

  const drag = (begin: React.PointerEvent, move: (dx: number, dy: number) => void) => {
    const target = begin.currentTarget as HTMLElement;
    target.setPointerCapture(begin.pointerId);
    let [x, y] = [begin.clientX, begin.clientY];
    const moved = (event: PointerEvent) => {
      move(event.clientX - x, event.clientY - y);
      [x, y] = [event.clientX, event.clientY];
    };
    const done = () => {
      target.removeEventListener("pointermove", moved);
      target.removeEventListener("pointerup", done);
    };
    target.addEventListener("pointermove", moved);
    target.addEventListener("pointerup", done);
  };
  const shift = (dx: number, dy: number) =>
    setPlace((before) => {
      const map = box.current?.closest(".map")?.getBoundingClientRect();
      const own = box.current?.getBoundingClientRect();
      if (!map || !own) return before;
      const [x, y] = before ?? [own.left - map.left, own.top - map.top];
      return [
        Math.min(Math.max(x + dx, 0), map.width - own.width),
        Math.min(Math.max(y + dy, 0), map.height - own.height),
      ];
    });

  if (!lens) return null;
  const refused = left.error ?? right.error;
  return (
    <section
      ref={box}
      className={styles.lens}
      style={place ? { left: place[0], top: place[1] } : { right: 16, top: 96 }}
      aria-label="Lens"
    >
      <header onPointerDown={(event) => (event.target as Element).closest("button, label") || drag(event, shift)}>
        <b>Lens</b>
        <span className={styles.sides} role="radiogroup" aria-label="Image">
          {(Object.keys(TITLES) as Shown[]).map((name) => (
            <Card
              key={name}
              className={styles.side as string}
              group="lens"
              checked={shown === name}
              onChoose={() => setShown(name)}
            >
              {TITLES[name]}
            </Card>
          ))}
        </span>
        <span className="mut">
          through <b className="la">A</b>
        </span>
        <Button kind="bare" aria-label="Close the lens" onClick={() => set({ lens: null })}>
          ×
        </Button>
      </header>
      <div data-lens="" className={styles.through} style={{ width, height }}>
        {images ? (
          <MapPane view={view} drawn={drawn} label="Lens" onPin={nothing} still />
        ) : (
          <p className="empties">
            No image pair shows this surface. Add both images in Gather, and choose them in Build under Image pair.
          </p>
        )}
        {refused && (
          <p className={styles.lenssaid} role="alert">
            {refused}
          </p>
        )}
        {images && <span className={styles.which}>{second ? "right" : "left"}</span>}
        {kept && <i className={styles.wipe} style={{ left: `${wipe * 100}%` }} />}
      </div>
      {images && (
        <footer style={{ width }}>
          <p role="status">
            <JumpLine images={images} />
          </p>
          <p>
            {kept ? (
              <>
                kept
                <input
                  type="range"
                  aria-label="Kept picture, and now"
                  min={0}
                  max={1}
                  step={0.01}
                  value={wipe}
                  onChange={(event) => setWipe(Number(event.target.value))}
                />
                now{" "}
                <Button kind="link" onClick={() => setKept(null)}>
                  Drop it
                </Button>
              </>
            ) : (
              <Button
                kind="link"
                disabled={!left.key && !right.key}
                onClick={() => {
                  setKept({ left: left.key, right: right.key });
                  setWipe(0.5);
                }}
              >
                Keep this picture
              </Button>
            )}
          </p>
        </footer>
      )}
      <span
        className={styles.corner}
        aria-hidden="true"
        onPointerDown={(event) =>
          drag(event, (dx, dy) => {
            const { lens: now } = useMend.getState();
            if (!now) return;
            set({
              lens: {
                ...now,
                width: Math.max(now.width + dx, LEAST + 60),
                height: Math.max(now.height + dy, LEAST - 60),
              },
            });
          })
        }
      />
    </section>
  );
}
