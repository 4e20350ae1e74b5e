import View from "ol/View";
import { useEffect, useMemo, useRef } from "react";
import type { ImageHolding } from "../api/client";
import { useHeld } from "../desk/context";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { useReading } from "../desk/useReading";
import { SlotChip } from "../map/SlotChip";
import { extentOf, projectionOf } from "../map/surfaceLayer";
import { Button } from "../ui/Button";
import { gridOf, ImagePane, imageSpace } from "./ImagePane";
import { addedMark, type Graduation, pointerMark, searchMarks, tieMarks, windowMark } from "./marks";
import styles from "./pair.module.css";
import { across, reached } from "./rays";
import { STICKS, usePairState } from "./state";
import { TryColumn } from "./TryColumn";
import { useLook, usePairAsked, useTies } from "./usePair";

const GRADUATIONS = 9;
const TRIES = 4;
const NONE: [number, number][] = [];

function useImageView(image: ImageHolding | undefined): View | null {
  const { id } = image ?? {};
  // biome-ignore lint/correctness/useExhaustiveDependencies: the image counts, not the object that tells of it
  return useMemo(() => {
    if (!image) return null;
    const grid = gridOf(image);
    const [, , width, height] = extentOf(grid);
    return new View({
      projection: projectionOf(grid),
      extent: [-width / 2, -height / 2, 1.5 * width, 1.5 * height],
      constrainOnlyCenter: true,
      enableRotation: false,
      minResolution: 1 / 8,
      maxResolution: Math.max(width / 200, height / 200),
      center: [width / 2, height / 2],
      resolution: Math.max(width / 290, height / 430),
    });
  }, [id]);
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
  const { image, hover, window, tie, sticks, adding, set: change } = usePairState();
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
  const reading = useReading();
  const leftView = useImageView(asked?.left);
  const rightView = useImageView(asked?.right);
  const middle = look ? (look.heights[0] + look.heights[1]) / 2 : 0;
  const heightA = reading.quantity === "height" ? reading.a : null;

  // the right image follows the left one over the same ground
  useEffect(() => {
    if (!leftView || !rightView || !look || !asked) return;
    const [left, right] = [imageSpace(asked.left.image.rows), imageSpace(asked.right.image.rows)];
    const follow = () => {
      const [col, row] = left.toPlace(leftView.getCenter() ?? [0, 0]);
      const there = across(look.left, look.right, col, row, middle);
      if (there) rightView.setCenter(right.toPane(there));
      rightView.setResolution(leftView.getResolution());
    };
    follow();
    leftView.on("change", follow);
    return () => leftView.un("change", follow);
  }, [leftView, rightView, look, middle, asked]);

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
    if (!asked) return null;
    const spaces = { left: imageSpace(asked.left.image.rows), right: imageSpace(asked.right.image.rows) };
    const pressTie = (number: number) => change({ tie: number });
    const stick = (side: "left" | "right"): [number, number] => {
      if (!look) return [1, 0];
      const [from, to] = side === "left" ? [look.right, look.left] : [look.left, look.right];
      const at = asked[side === "left" ? "right" : "left"].image;
      const [one, other] = look.heights.map((height) => across(from, to, at.cols / 2, at.rows / 2, height));
      if (!one || !other) return [1, 0];
      const [dx, dy] = [other[0] - one[0], one[1] - other[1]];
      const size = Math.hypot(dx, dy) || 1;
      return [-dy / size, dx / size]; // at a right angle to the parallax
    };
    const left = tieMarks(ties, "left", spaces.left, sticks, stick("left"), tie, pressTie);
    const right = tieMarks(ties, "right", spaces.right, sticks, stick("right"), tie, pressTie);
    for (const at of added) left.push(addedMark(at, spaces.left));
    if (window) left.push(windowMark(window, spaces.left));
    if (window && look) {
      const there = across(look.left, look.right, window[0], window[1], middle);
      if (there) right.push(windowMark(there, spaces.right));
    }
    return { left, right, spaces };
  }, [asked, ties, sticks, tie, added, window, look, middle, change]);

  const pointed = useMemo(() => {
    if (!marks || !hover) return { left: [], right: [] };
    const at = look && heightA != null ? across(look.left, look.right, hover[0], hover[1], heightA + look.zero) : null;
    return {
      left: [pointerMark(hover, marks.spaces.left)],
      right: line.length ? searchMarks(line, at, marks.spaces.right) : [],
    };
  }, [marks, hover, line, look, heightA]);
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
  const resolution = leftView?.getResolution() ?? 1;

  return (
    <div className={`map ${styles.bench}`} role="region" aria-label="Image pair">
      <div className={styles.head}>
        <SlotChip slot="a" holding={a} />
        <div className={styles.bar}>
          <Button onClick={() => set({ bench: "map" })}>Back to the map</Button>
          <span className={styles.sticks} role="group" aria-label="Residuals are drawn larger">
            sticks
            {STICKS.map((one) => (
              <Button key={one} kind="small" aria-pressed={sticks === one} onClick={() => change({ sticks: one })}>
                × {one}
              </Button>
            ))}
          </span>
        </div>
        <SlotChip slot="b" holding={b} />
      </div>
      {!asked || !leftView || !rightView || !marks ? (
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
                image={asked.left}
                view={leftView}
                label="Left image"
                marks={leftMarks}
                moves
                onPoint={(at) => change({ hover: at ? [at[0], at[1]] : null })}
                onPress={([col, row]) => press([col, row])}
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
                "Click: the window is matched there"
              )}
            </p>
          </figure>
          <TryColumn />
          <figure className={styles.image}>
            <figcaption>
              <b>Right</b> <span className="n cut">{asked.right.name}</span> <span>{scaleOf(resolution)}</span>
            </figcaption>
            <div className={styles.pane}>
              <ImagePane image={asked.right} view={rightView} label="Right image" marks={rightMarks} moves={false} />
            </div>
            <p className={styles.below}>
              {there && hover ? (
                <>
                  col <b className="n">{num(there[0], 1)}</b> row <b className="n">{num(there[1], 1)}</b>
                  {heightA != null && " at A's height"}
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
