import View from "ol/View";
import { useEffect, useMemo, useRef, useState } from "react";
import { useFigures } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { num, percent } from "../desk/format";
import { useDesk } from "../desk/store";
import { isBackdrop } from "../map/backdrops";
import { MapPane } from "../map/MapPane";
import { gridSpace } from "../map/space";
import { projectionOf } from "../map/surfaceLayer";
import { HoldingChoice } from "../stages/HoldingChoice";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Card } from "../ui/Radio";
import { dragged } from "./dragged";
import styles from "./lens.module.css";
import { LENS, useMend } from "./state";
import { useImages, useJump, useOrtho } from "./useLens";
import { type Kept, type LensLook, useLensDrawn } from "./useLensDrawn";
import { useMendedStack } from "./useMended";

const BLINK = 500; // milliseconds that each picture stands

const TITLES: Record<LensLook, string> = {
  left: "Left",
  right: "Right",
  blink: "Blink",
  fade: "Fade",
  backdrop: "Backdrop",
};
const LOOKS = Object.keys(TITLES) as LensLook[];

const told = (count: number): string => (count === 1 ? "1 patch" : count ? `${num(count)} patches` : "no patch");

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
      jumps <b className="n">{num(now, 1)}</b> cells{before != null && `, ${num(before, 1)} before`}; alike on{" "}
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
  const [asked, setShown] = useState<LensLook>("blink");
  const [second, setSecond] = useState(false);
  const [fade, setFade] = useState(0.5);
  const { all } = useHeld();
  const pictures = all.filter(isBackdrop);
  const [picture, setPicture] = useState<number | null>(null);
  const backdrop = pictures.find((one) => one.id === picture) ?? pictures[0];
  const choices = LOOKS.filter((one) => (one === "backdrop" ? backdrop : images));
  const [allKept, setAllKept] = useState<Kept[]>([]);
  const [keptAt, setKeptAt] = useState<number | null>(null);
  const kept = keptAt === null ? null : (allKept[keptAt] ?? null);
  const { patches } = useMendedStack();
  const [wipe, setWipe] = useState(0.5);
  const left = useOrtho(images, "left");
  const right = useOrtho(images, "right");
  const shown = choices.includes(asked) ? asked : (choices[0] ?? "blink");
  const { width, height } = lens ?? LENS;

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
  const shades = figures?.[left.key ?? ""];
  const [low, high] = [shades?.low2, shades?.high98];
  useEffect(() => {
    if (low != null && high != null && high > low) look("grey", { range: [low, high], stretch: "typed" });
  }, [low, high, look]);

  const drawn = useLensDrawn({
    shown,
    second,
    fade,
    wipe,
    kept,
    now: { left: left.key, right: right.key },
    backdrop,
    finer: images?.finer ?? 1,
  });

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
      <header onPointerDown={(event) => (event.target as Element).closest("button, label") || dragged(event, shift)}>
        <b>Lens</b>
        <span className={styles.sides} role="radiogroup" aria-label="Image">
          {choices.map((name) => (
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
        <Button kind="bare" aria-label="Close the lens" onClick={() => set({ lens: null })}>
          ×
        </Button>
      </header>
      <div data-lens="" className={styles.through} style={{ width, height }}>
        {choices.length ? (
          <MapPane view={view} drawn={drawn} label="Lens" onPin={nothing} still />
        ) : (
          <p className="empties">
            No image pair shows this surface, and there is no backdrop. Add both images in Gather, and choose them in
            Build under Image pair.
          </p>
        )}
        {refused && (
          <p className={styles.lenssaid} role="alert">
            {refused}
          </p>
        )}
        {shown === "backdrop" && <span className={styles.which}>{backdrop?.name}</span>}
        {shown !== "backdrop" && images && (
          <span className={styles.which}>
            {shown === "fade" ? "both" : second ? "right" : "left"} through <b className="la">A</b>
          </span>
        )}
        {kept && shown !== "backdrop" && <i className={styles.wipe} style={{ left: `${wipe * 100}%` }} />}
      </div>
      {(images || pictures.length > 1) && (
        <footer style={{ width }}>
          {images && (
            <p role="status">
              <JumpLine images={images} />
            </p>
          )}
          {shown === "fade" && (
            <p>
              left
              <input
                type="range"
                aria-label="Left image, and right"
                min={0}
                max={1}
                step={0.01}
                value={fade}
                onChange={(event) => setFade(Number(event.target.value))}
              />
              right
            </p>
          )}
          {shown === "backdrop" && pictures.length > 1 && (
            <HoldingChoice label="Backdrop" holdings={pictures} value={backdrop?.id} onChange={setPicture} />
          )}
          {shown !== "backdrop" && images && (
            <p>
              {kept && (
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
                  now
                </>
              )}
              <Button
                kind="link"
                disabled={(!left.key && !right.key) || (kept?.left === left.key && kept?.right === right.key)}
                onClick={() => {
                  const made = {
                    left: left.key,
                    right: right.key,
                    told: `${num(allKept.length + 1)}: through ${told(patches.filter((one) => one.content.on).length)}`,
                  };
                  setAllKept([...allKept, made]);
                  setKeptAt(allKept.length);
                  setWipe(0.5);
                }}
              >
                {kept ? "Keep this one too" : "Keep this picture"}
              </Button>
            </p>
          )}
          {shown !== "backdrop" && images && allKept.length > 0 && (
            <p>
              <Choice
                label="Beside now"
                value={keptAt === null ? "none" : String(keptAt)}
                options={[
                  { value: "none", title: "nothing" },
                  ...allKept.map((one, i) => ({ value: String(i), title: one.told })),
                ]}
                onChange={(value) => setKeptAt(value === "none" ? null : Number(value))}
              />
            </p>
          )}
        </footer>
      )}
      <span
        className={styles.corner}
        aria-hidden="true"
        onPointerDown={(event) =>
          dragged(event, (dx, dy) => {
            const { lens: now } = useMend.getState();
            if (!now) return;
            set({
              lens: {
                ...now,
                width: Math.max(now.width + dx, LENS.width),
                height: Math.max(now.height + dy, LENS.height / 2),
              },
            });
          })
        }
      />
    </section>
  );
}
