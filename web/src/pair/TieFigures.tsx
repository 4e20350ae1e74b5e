import { Slider } from "@mui/material";
import type { ImageHolding } from "../api/client";
import { num } from "../desk/format";
import styles from "./pair.module.css";
import { usePairState } from "./state";
import type { Tie } from "./usePair";

const [BINS, WIDE, HIGH] = [30, 180, 58];
const MAP = 84;

/** A round number of at least so much. */
function rounded(value: number): number {
  const unit = 10 ** Math.floor(Math.log10(value));
  return ([1, 2, 5, 10].find((one) => one * unit >= value) ?? 10) * unit;
}

interface ResidualsProps {
  ties: Tie[];
  /** Whether a tie point counts. */
  counts: (tie: Tie) => boolean;
  most: number | null;
  onMost: (most: number | null) => void;
}

/** How many tie points have which residual, and over which they are left out. */
export function Residuals({ ties, counts, most, onMost }: ResidualsProps) {
  const known = ties.filter((tie) => tie.residual !== null);
  const largest = Math.max(...known.filter(counts).map((tie) => tie.residual ?? 0), 0.05);
  const top = rounded(1.6 * Math.max(largest, most ?? 0));
  const bins = Array.from({ length: BINS }, () => [0, 0]);
  for (const tie of known) {
    const bin = bins[Math.min(Math.floor(((tie.residual ?? 0) / top) * BINS), BINS - 1)];
    const which = counts(tie) ? 0 : 1;
    if (bin) bin[which] = (bin[which] ?? 0) + 1;
  }
  const tallest = Math.max(...bins.map(([kept = 0, out = 0]) => kept + out), 1);
  const beyond = known.filter((tie) => (tie.residual ?? 0) > top).length;
  return (
    <section className={styles.residuals} aria-label="Residuals">
      <h3>
        Residuals <small>{beyond > 0 && `${num(beyond)} beyond ${num(top, 2)} px`}</small>
      </h3>
      <svg viewBox={`0 0 ${WIDE} ${HIGH}`} width={WIDE} height={HIGH} role="img" aria-label="Tie points by residual">
        {bins.map(([kept = 0, out = 0], i) => {
          const [x, width] = [(i * WIDE) / BINS, WIDE / BINS - 1];
          const [full, open] = [(kept / tallest) * HIGH, (out / tallest) * HIGH];
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: a bin is its place
            <g key={i}>
              <rect className={styles.kept} x={x} width={width} y={HIGH - full} height={full} />
              {out > 0 && (
                <rect
                  className={styles.out}
                  x={x + 0.5}
                  width={width - 1}
                  y={HIGH - full - open + 0.5}
                  height={Math.max(open - 0.5, 0.5)}
                />
              )}
            </g>
          );
        })}
      </svg>
      <Slider
        size="small"
        aria-label="Leave out over"
        min={0}
        max={top}
        step={top / 200}
        value={most ?? top}
        onChange={(_, value) => onMost((value as number) >= top ? null : Number((value as number).toPrecision(3)))}
      />
      <p className={styles.ends}>
        <span className="n">0</span>
        <span className="mut">{most === null ? "left out by their spread" : `left out over ${num(most, 2)} px`}</span>
        <span className="n">{num(top, 2)} px</span>
      </p>
    </section>
  );
}

interface SpreadProps {
  ties: Tie[];
  counts: (tie: Tie) => boolean;
  image: ImageHolding;
  /** What is said of corners that have none. */
  said: string[];
}

/** Where tie points lie on the left image. */
export function Spread({ ties, counts, image, said }: SpreadProps) {
  const { tie: at, set } = usePairState();
  const { rows, cols } = image.image;
  const scale = MAP / Math.max(rows, cols);
  const [width, height] = [cols * scale, rows * scale];
  const kept = ties.filter(counts);
  return (
    <section className={styles.spread} aria-label="Spread">
      <svg
        viewBox={`0 0 ${width} ${height}`}
        width={width}
        height={height}
        role="img"
        aria-label="Tie points on the left image"
      >
        <rect className={styles.ground} width={width} height={height} />
        {ties.map((tie) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: the same are in the list beside it, with buttons
          <circle
            key={tie.number}
            className={tie.number === at ? styles.at : counts(tie) ? styles.kept : styles.out}
            cx={tie.left[0] * scale}
            cy={tie.left[1] * scale}
            r={tie.number === at ? 3 : 1.4}
            onClick={() => set({ tie: tie.number, window: [Math.round(tie.left[0]), Math.round(tie.left[1])] })}
          />
        ))}
      </svg>
      <div>
        <h3>Spread</h3>
        <p>
          <b className="n">{num(kept.length)}</b> kept,{" "}
          <b className="n">{num((kept.length / (rows * cols * image.image.ground_size ** 2)) * 1e6)}</b> to the km²
        </p>
        {said.map((sentence) => (
          <p key={sentence} className={styles.hint}>
            {sentence}
          </p>
        ))}
      </div>
    </section>
  );
}
