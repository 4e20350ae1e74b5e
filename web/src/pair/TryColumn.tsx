import { Slider } from "@mui/material";
import { useEffect, useRef } from "react";
import { useHeld } from "../desk/context";
import { num } from "../desk/format";
import { FRESH, useDesk } from "../desk/store";
import { stopsOf } from "../map/ramps";
import styles from "./pair.module.css";
import { usePairState, WINDOW } from "./state";
import { floats, useLook, usePairAsked, useTry } from "./usePair";

const BINS = 24;

/** Red, green and blue of a colour written as #rrggbb. */
const parts = (colour: string): number[] => [1, 3, 5].map((at) => Number.parseInt(colour.slice(at, at + 2), 16));

/** A table of 256 colours along stops. */
function coloursOf(stops: [number, string][]): number[][] {
  return Array.from({ length: 256 }, (_, i) => {
    const share = i / 255;
    const next = stops.findIndex(([place]) => place >= share);
    const [to, from] = [stops[Math.max(next, 0)], stops[Math.max(next - 1, 0)]];
    if (!to || !from) return [0, 0, 0];
    const t = to[0] > from[0] ? (share - from[0]) / (to[0] - from[0]) : 0;
    const [one, other] = [parts(from[1]), parts(to[1])];
    return one.map((value, k) => value + ((other[k] ?? 0) - value) * t);
  });
}

/** Cells as a picture: coloured between two values, with relief where they are heights; empty cells let the hatch through. */
export function paint(
  canvas: HTMLCanvasElement,
  cells: Float32Array,
  size: number,
  colours: number[][],
  [low, high]: [number, number],
  lit: boolean,
): void {
  canvas.width = size;
  canvas.height = size;
  const context = canvas.getContext("2d");
  if (!context) return;
  const picture = context.createImageData(size, size);
  for (let r = 0; r < size; r++)
    for (let c = 0; c < size; c++) {
      const at = r * size + c;
      const value = cells[at] ?? Number.NaN;
      if (Number.isNaN(value)) continue;
      const share = Math.min(Math.max((value - low) / Math.max(high - low, 1e-9), 0), 1);
      const colour = colours[Math.round(share * 255)] ?? [0, 0, 0];
      let bright = 1;
      if (lit) {
        const beside = (cells[at - 1] ?? value) - (cells[at + 1] ?? value);
        const below = (cells[at + size] ?? value) - (cells[at - size] ?? value);
        const slope = Number.isNaN(beside + below) ? 0 : (below - beside) * 0.09;
        bright = Math.min(Math.max(1 - slope, 0.55), 1.3);
      }
      for (let k = 0; k < 3; k++) picture.data[at * 4 + k] = (colour[k] ?? 0) * bright;
      picture.data[at * 4 + 3] = 255;
    }
  context.putImageData(picture, 0, 0);
}

interface PictureProps {
  cells: string;
  size: number;
  of: "height" | "likeness";
  span: [number, number];
  label: string;
}

/** What a window gives, as a picture. */
export function Picture({ cells, size, of, span, label }: PictureProps) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const looks = useDesk((desk) => desk.looks);
  const look = looks[of] ?? FRESH.looks[of];
  const [low, high] = span;
  useEffect(() => {
    if (canvas.current)
      paint(
        canvas.current,
        floats(cells),
        size,
        coloursOf(stopsOf(look) as [number, string][]),
        [low, high],
        of === "height",
      );
  }, [cells, size, look, low, high, of]);
  return <canvas ref={canvas} className={styles.picture} role="img" aria-label={label} />;
}

/** How many cells of the window are how much alike, with the least likeness that is kept as a line. */
function Likenesses({ cells, least, onLeast }: { cells: string; least: number; onLeast: (value: number) => void }) {
  const counts: number[] = Array(BINS).fill(0);
  for (const value of floats(cells))
    if (!Number.isNaN(value)) {
      const bin = Math.min(Math.floor(value * BINS), BINS - 1);
      counts[bin] = (counts[bin] ?? 0) + 1;
    }
  const most = Math.max(...counts, 1);
  return (
    <div className={styles.likenesses}>
      <svg viewBox={`0 0 ${BINS} 20`} preserveAspectRatio="none" aria-hidden="true">
        <path
          d={counts.map((count, i) => `M${i + 0.1} 20V${(20 - (18 * count) / most).toFixed(1)}h0.8V20`).join("")}
          fill="var(--muted)"
        />
        <path d={`M${least * BINS} 0V20`} stroke="var(--lake)" strokeWidth="0.3" />
      </svg>
      <Slider
        min={0}
        max={0.95}
        step={0.05}
        value={least}
        aria-label="Least likeness"
        onChange={(_, value) => onLeast(value as number)}
      />
    </div>
  );
}

/** What the window of the left image gives with the settings as they are. */
export function TryColumn() {
  const { data, error, isFetching } = useTry();
  const { data: look } = useLook();
  const { a } = useHeld();
  const asked = usePairAsked();
  const { window } = usePairState();
  const sheet = useDesk((desk) => desk.sheets.image_pair);
  const change = useDesk((desk) => desk.sheet);
  const least = Number(sheet?.params.likeness ?? 0.5);
  const metres = look ? WINDOW * look.cell : 0;
  const said = (value: number | null | undefined, decimals: number, unit: string) =>
    value == null || Number.isNaN(value) ? "–" : `${num(value, decimals)}${unit}`;
  return (
    <section className={styles.try} aria-label="Try here" aria-busy={isFetching}>
      <h2>
        Try here
        <small className="n">
          {WINDOW} px, {num(metres)} m
        </small>
      </h2>
      {error && (
        <p className="fail" role="alert">
          {error.message}
        </p>
      )}
      {asked?.model === null && (
        <p className={styles.hint}>
          Models as delivered: rows of both images may not meet. Find tie points and adjust them.
        </p>
      )}
      {!data && !error && <p className="mut">{window ? "Matching…" : "Click the left image."}</p>}
      {data && (
        <>
          <Picture
            cells={data.heights}
            size={data.size}
            of="height"
            span={[data.lowest ?? 0, data.highest ?? 1]}
            label="Heights of the window"
          />
          <p className={styles.ends}>
            <span className="n">{said(data.lowest, 0, " m")}</span>
            <span className="mut">heights</span>
            <span className="n">{said(data.highest, 0, " m")}</span>
          </p>
          <Picture cells={data.likeness} size={data.size} of="likeness" span={[0, 1]} label="Likeness of the window" />
          <Likenesses
            cells={data.likeness}
            least={least}
            onLeast={(likeness) => change("image_pair", { params: { ...sheet?.params, likeness } })}
          />
          <p className={styles.ends}>
            <span className="n">0</span>
            <span className="mut">likeness</span>
            <span className="n">1</span>
          </p>
          <dl className={styles.figures}>
            <dt>median</dt>
            <dd data-testid="try-median">{said(data.median, 2, " m")}</dd>
            <dt>likeness</dt>
            <dd>{said(data.alike, 2, "")}</dd>
            <dt>empty</dt>
            <dd data-testid="try-empty">{said(100 * data.empty, 1, " %")}</dd>
            {a && (
              <>
                <dt>minus A</dt>
                <dd data-testid="try-minus">{said(data.minus, 2, " m")}</dd>
              </>
            )}
            <dt>took</dt>
            <dd>{said(data.seconds, 1, " s")}</dd>
          </dl>
        </>
      )}
    </section>
  );
}
