import View from "ol/View";
import { useEffect, useMemo, useRef } from "react";
import { useHeld, useProject } from "../desk/context";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { useReading } from "../desk/useReading";
import { SlotChip } from "../map/SlotChip";
import type { Space } from "../map/space";
import { extentOf, projectionOf } from "../map/surfaceLayer";
import { Button } from "../ui/Button";
import { ImagePane } from "./ImagePane";
import { addedMark, type Graduation, pointerMark, searchMarks, tieMarks, windowMark } from "./marks";
import styles from "./pair.module.css";
import { asTaken, onPlane, type Shown } from "./plane";
import { across, reached } from "./rays";
import { STICKS, usePairState, WINDOW } from "./state";
import { TryColumn } from "./TryColumn";
import { useLook, usePairAsked, useTies } from "./usePair";

const GRADUATIONS = 9;
const TRIES = 4;
const NONE: [number, number][] = [];

/** A view of what a pane shows. It begins where the one before it was, over the same cells of the image. */
function useImageView(shown: Shown | undefined): View | null {
  const before = useRef<{ view: View; space: Space } | null>(null);
  return useMemo(() => {
    if (!shown) return null;
    const { grid, space } = shown;
    const [, , width, height] = extentOf(grid);
    const last = before.current;
    const kept = last && space.toPane(last.space.toPlace(last.view.getCenter() ?? [0, 0]));
    const view = new View({
      projection: projectionOf(grid),
      extent: [-width / 2, -height / 2, 1.5 * width, 1.5 * height],
      constrainOnlyCenter: true,
      enableRotation: false,
      minResolution: 1 / 8,
      maxResolution: Math.max(width / 200, height / 200),
      center: kept?.every(Number.isFinite) ? kept : [width / 2, height / 2],
      resolution: (kept && last?.view.getResolution()) ?? Math.max(width / 290, height / 430),
    });
    before.current = { view, space };
    return view;
  }, [shown]);
}

/** At which scale an image is shown. */
const scaleOf = (resolution: number) =>
  resolution >= 1 ? `1 : ${num(resolution, resolution < 3 ? 1 : 0)}` : `${num(1 / resolution, 1)} : 1`;

/** Two images side by side, linked by the ground that they show, with what a window of them gives in between. */
export function PairView() {
  const asked = usePairAsked();
  const { data: look, error } = useLook();
  const { ties } = useTies();
  const { a, b } = useHeld();
  const set = useDesk((desk) => desk.set);
  const { image, hover, window, dragged, epipolar, tie, sticks, adding, set: change } = usePairState();
  const project = useProject();
  const adjusting = useDesk((desk) => desk.sheets.adjust_models);
  const setSheet = useDesk((desk) => desk.sheet);
  const added = (adjusting?.params.added ?? NONE) as [number, number][];
  const press = (at: [number, number]) => {
    if (!adding) return change({ window: [Math.round(at[0]), Math.round(at[1])] });
    setSheet("adjust_models", {
      params: { ...adjusting?.params, added: [...added, [Math.round(at[0]), Math.round(at[1])]] },
    });
    change({ adding: false });
  };
  // where in the window it was taken hold of
  const grip = useRef<[number, number] | null>(null);
  const drag = ([col, row]: [number, number], over: boolean) => {
    if (!window || !asked) return;
    grip.current ??= [col - window[0], row - window[1]];
    const { cols, rows } = asked.left.image;
    const within = (at: number, most: number) => Math.round(Math.min(Math.max(at, 0), most - 1));
    const to: [number, number] = [within(col - grip.current[0], cols), within(row - grip.current[1], rows)];
    change(over ? { window: to, dragged: null } : { dragged: to });
    if (over) grip.current = null;
  };
  const reading = useReading();
  const onRows = epipolar && look ? look : null;
  const told = asked && JSON.stringify([asked.left.id, asked.right.id, asked.model]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: which images, not the objects that tell of them
  const shown = useMemo(
    () =>
      asked && {
        left: onRows ? onPlane(project.id, asked, "left", onRows) : asTaken(project.id, asked.left),
        right: onRows ? onPlane(project.id, asked, "right", onRows) : asTaken(project.id, asked.right),
      },
    [told, onRows, project.id],
  );
  const leftView = useImageView(shown?.left);
  const rightView = useImageView(shown?.right);
  const middle = look ? (look.heights[0] + look.heights[1]) / 2 : 0;
  const heightA = reading.quantity === "height" ? reading.a : null;

  // the right image follows the left one over the same ground
  useEffect(() => {
    if (!leftView || !rightView || !look || !shown) return;
    const [left, right] = [shown.left.space, shown.right.space];
    const follow = () => {
      const [col, row] = left.toPlace(leftView.getCenter() ?? [0, 0]);
      const there = across(look.left, look.right, col, row, middle);
      if (there) rightView.setCenter(right.toPane(there));
      rightView.setResolution(leftView.getResolution());
    };
    follow();
    leftView.on("change", follow);
    return () => leftView.un("change", follow);
  }, [leftView, rightView, look, middle, shown]);

  // a place of the left image, as a place of the frame: at A's height, which is asked there and moves the place. On a cliff that
  // may never come to rest, so it is done a few times for each place of the pointer
  const tries = useRef<{ hover: typeof hover; left: number }>({ hover: null, left: 0 });
  useEffect(() => {
    if (!look || !hover) {
      set({ overMap: false });
      return;
    }
    if (tries.current.hover !== hover) tries.current = { hover, left: TRIES };
    if (tries.current.left-- <= 0) return;
    const place = reached(look.left, hover[0], hover[1], heightA != null ? heightA + look.zero : middle);
    if (!place) return;
    const [u, v] = [place[0] - look.middle[0], place[1] - look.middle[1]];
    const terms = [1, u, v, u * u, u * v, v * v];
    const [x = 0, y = 0] = look.frame.map((one) =>
      one.reduce((total, factor, i) => total + factor * (terms[i] ?? 0), 0),
    );
    set({ pointer: [x, y], overMap: true });
  }, [look, hover, middle, heightA, set]);

  // with other images the window begins in the middle again
  const of = asked?.left;
  useEffect(() => {
    if (of && image !== of.id)
      change({
        image: of.id,
        window: [Math.round(of.image.cols / 2), Math.round(of.image.rows / 2)],
        tie: null,
        hover: null,
      });
  }, [of, image, change]);

  const line = useMemo((): Graduation[] => {
    if (!look || !hover) return [];
    const [low, high] = look.heights;
    return Array.from({ length: GRADUATIONS }, (_, i) => {
      const height = low + ((high - low) * i) / (GRADUATIONS - 1);
      const at = across(look.left, look.right, hover[0], hover[1], height);
      return at && { at, label: i % 4 ? "" : `${num(height - look.zero)} m` };
    }).filter((one) => one !== null);
  }, [look, hover]);

  const marks = useMemo(() => {
    if (!asked || !shown) return null;
    const spaces = { left: shown.left.space, right: shown.right.space };
    const pressTie = (number: number) => {
      const place = ties.find((one) => one.number === number)?.left;
      if (place) change({ tie: number, window: [Math.round(place[0]), Math.round(place[1])] });
    };
    const stick = (side: "left" | "right"): [number, number] => {
      if (!look) return [1, 0];
      const [from, to] = side === "left" ? [look.right, look.left] : [look.left, look.right];
      const at = asked[side === "left" ? "right" : "left"].image;
      const [one, other] = look.heights.map((height) => across(from, to, at.cols / 2, at.rows / 2, height));
      if (!one || !other) return [1, 0];
      const [start, end] = [spaces[side].toPane(one), spaces[side].toPane(other)];
      const [dx, dy] = [end[0] - start[0], end[1] - start[1]];
      const size = Math.hypot(dx, dy) || 1;
      return [-dy / size, dx / size]; // at a right angle to the parallax
    };
    const left = tieMarks(ties, "left", spaces.left, sticks, stick("left"), tie, pressTie);
    const right = tieMarks(ties, "right", spaces.right, sticks, stick("right"), tie, pressTie);
    for (const at of added) left.push(addedMark(at, spaces.left));
    const framed = dragged ?? window;
    if (framed) left.push(windowMark(framed, spaces.left));
    if (framed && look) {
      const there = across(look.left, look.right, framed[0], framed[1], middle);
      if (there) right.push(windowMark(there, spaces.right));
    }
    return { left, right, spaces };
  }, [asked, shown, ties, sticks, tie, added, window, dragged, look, middle, change]);

  const resolution = leftView?.getResolution() ?? 1;
  const pointed = useMemo(() => {
    if (!marks || !hover) return { left: [], right: [] };
    const at = look && heightA != null ? across(look.left, look.right, hover[0], hover[1], heightA + look.zero) : null;
    return {
      left: [pointerMark(hover, marks.spaces.left)],
      right: line.length ? searchMarks(line, at, marks.spaces.right, resolution) : [],
    };
  }, [marks, hover, line, look, heightA, resolution]);
  const [leftMarks, rightMarks] = useMemo(
    () => [
      [...(marks?.left ?? []), ...pointed.left],
      [...(marks?.right ?? []), ...pointed.right],
    ],
    [marks, pointed],
  );
  const there =
    look && hover
      ? across(look.left, look.right, hover[0], hover[1], heightA != null ? heightA + look.zero : middle)
      : null;

  return (
    <div className={`map ${styles.bench}`} role="region" aria-label="Image pair">
      <div className={styles.head}>
        <SlotChip slot="a" holding={a} />
        <div className={styles.bar}>
          <Button onClick={() => set({ bench: "map" })}>Back to the map</Button>
          <span className={styles.sticks} role="group" aria-label="How both images are shown">
            <Button kind="small" aria-pressed={!epipolar} onClick={() => change({ epipolar: false })}>
              As taken
            </Button>
            <Button
              kind="small"
              aria-pressed={epipolar}
              disabled={!look}
              title={look && `Rows of both images meet within ${num(look.plane.across, 2)} px`}
              onClick={() => change({ epipolar: true })}
            >
              Epipolar
            </Button>
          </span>
          <Button
            kind="small"
            title="By how much residuals are drawn larger. Press for the next."
            onClick={() => change({ sticks: STICKS[(STICKS.indexOf(sticks) + 1) % STICKS.length] ?? sticks })}
          >
            sticks × {num(sticks)}
          </Button>
        </div>
        <SlotChip slot="b" holding={b} />
      </div>
      {!asked || !shown || !leftView || !rightView || !marks ? (
        <p className={styles.none}>Choose two images that overlap on the left: they stand here side by side.</p>
      ) : error ? (
        <p className={styles.none} role="alert">
          {error.message}
        </p>
      ) : (
        <div className={styles.row}>
          <figure className={styles.image}>
            <figcaption>
              <b>Left</b> <span className="n cut">{asked.left.name}</span> <span>{scaleOf(resolution)}</span>
            </figcaption>
            <div className={styles.pane}>
              <ImagePane
                key={shown.left.name}
                shown={shown.left}
                view={leftView}
                label="Left image"
                marks={leftMarks}
                moves
                onPoint={(at) => change({ hover: at ? [at[0], at[1]] : null })}
                onPress={([col, row]) => press([col, row])}
                holds={([col, row]) =>
                  !adding &&
                  window !== null &&
                  Math.max(Math.abs(col - window[0]), Math.abs(row - window[1])) < WINDOW / 2
                }
                onDrag={([col, row], over) => drag([col, row], over)}
              />
            </div>
            <p className={styles.below}>
              {hover ? (
                <>
                  col <b className="n">{num(hover[0], 1)}</b> row <b className="n">{num(hover[1], 1)}</b>
                </>
              ) : adding ? (
                "Click a corner or a crossing: it is measured when the models are adjusted"
              ) : (
                "Click, or drag the window: it is matched there"
              )}
            </p>
          </figure>
          <TryColumn />
          <figure className={styles.image}>
            <figcaption>
              <b>Right</b> <span className="n cut">{asked.right.name}</span> <span>{scaleOf(resolution)}</span>
            </figcaption>
            <div className={styles.pane}>
              <ImagePane
                key={shown.right.name}
                shown={shown.right}
                view={rightView}
                label="Right image"
                marks={rightMarks}
                moves={false}
              />
            </div>
            <p className={styles.below}>
              {there && hover ? (
                <>
                  col <b className="n">{num(there[0], 1)}</b> row <b className="n">{num(there[1], 1)}</b>
                  {heightA != null && " at A's height"}
                </>
              ) : epipolar && look ? (
                <>
                  on the same rows within <b className="n">{num(look.plane.across, 2)} px</b>
                </>
              ) : (
                "follows the left"
              )}
            </p>
          </figure>
        </div>
      )}
    </div>
  );
}
