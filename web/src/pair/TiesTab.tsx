import { useQueries } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { bytes, type ImageHolding } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { Button } from "../ui/Button";
import styles from "./pair.module.css";
import { usePairState } from "./state";
import { Residuals, Spread } from "./TieFigures";
import { type Tie, useBare, usePairAsked, useTies } from "./usePair";

const [TILE, SIDE, CHIP] = [256, 258, 48];
const SHOWN = 60;

/** What lies around a place of an image: 48 cells along each side, stretched to what is there. */
function Chip({ image: of, at, label }: { image: ImageHolding; at: [number, number]; label: string }) {
  const image = of.id;
  const project = useProject();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [col, row] = at.map((value) => Math.max(Math.round(value), 0)) as [number, number];
  // a chip may lie over the edges of up to four tiles
  const ends = (at: number, size: number) => {
    const tile = (one: number) => Math.floor(Math.min(Math.max(one, 0), size - 1) / TILE);
    return [...new Set([tile(at - CHIP / 2), tile(at + CHIP / 2)])];
  };
  const tiles = ends(col, of.image.cols).flatMap((x) => ends(row, of.image.rows).map((y): [number, number] => [x, y]));
  const { cells, ready } = useQueries({
    queries: tiles.map(([x, y]) => ({
      queryKey: KEYS.imageTile(project.id, [image, x, y]),
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        bytes(`/projects/${project.id}/images/${image}/tiles/0/${x}/${y}`, signal),
      staleTime: Infinity,
    })),
    combine: (results) => ({
      cells: new Map(results.map(({ data }, i) => [String(tiles[i]), data ? new Float32Array(data) : null])),
      ready: results.every(({ isPending }) => !isPending),
    }),
  });
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !ready) return;
    const picture = context.createImageData(CHIP, CHIP);
    const value = (r: number, c: number) => {
      const [down, right] = [row + r - CHIP / 2, col + c - CHIP / 2];
      if (down < 0 || right < 0) return Number.NaN;
      const [x, y] = [Math.floor(right / TILE), Math.floor(down / TILE)];
      return cells.get(`${x},${y}`)?.[(down - y * TILE + 1) * SIDE + right - x * TILE + 1] ?? Number.NaN;
    };
    let [low, high] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
    for (let r = 0; r < CHIP; r++)
      for (let c = 0; c < CHIP; c++) {
        const one = value(r, c);
        if (one < low) low = one;
        if (one > high) high = one;
      }
    for (let r = 0; r < CHIP; r++)
      for (let c = 0; c < CHIP; c++) {
        const one = value(r, c);
        const at = (r * CHIP + c) * 4;
        const grey = (255 * (one - low)) / Math.max(high - low, 1);
        picture.data.set([grey, grey, grey, Number.isNaN(one) ? 0 : 255], at);
      }
    context.putImageData(picture, 0, 0);
    context.strokeStyle = "#fff";
    context.lineWidth = 1;
    context.beginPath();
    for (const [a, b] of [
      [CHIP / 2 - 7, CHIP / 2 - 2],
      [CHIP / 2 + 3, CHIP / 2 + 8],
    ] as const) {
      context.moveTo(a, CHIP / 2 + 0.5);
      context.lineTo(b, CHIP / 2 + 0.5);
      context.moveTo(CHIP / 2 + 0.5, a);
      context.lineTo(CHIP / 2 + 0.5, b);
    }
    context.stroke();
  }, [cells, ready, row, col]);
  return <canvas ref={canvas} className={styles.chip} width={CHIP} height={CHIP} role="img" aria-label={label} />;
}

function Card({ tie, out, onOut }: { tie: Tie; out: boolean; onOut: () => void }) {
  const asked = usePairAsked();
  const { tie: at, set } = usePairState();
  if (!asked) return null;
  return (
    <li className={styles.tie} data-out={out || !tie.used} data-at={at === tie.number}>
      <button
        type="button"
        className={styles.tieparts}
        aria-label={`Show tie point ${tie.number}`}
        onClick={() => set({ tie: tie.number, window: [Math.round(tie.left[0]), Math.round(tie.left[1])] })}
      >
        <Chip image={asked.left} at={tie.left} label={`Tie point ${tie.number} left`} />{" "}
        <Chip image={asked.right} at={tie.right} label={`Tie point ${tie.number} right`} />
      </button>
      <span>
        <b className="n">{num(tie.residual, 2)} px</b>
        <br />
        <span className="mut">
          no. <span className="n">{tie.number}</span>
        </span>
        <br />
        {out || tie.used ? (
          <Button kind="link" onClick={onOut}>
            {out ? "Take it back" : "Leave out"}
          </Button>
        ) : (
          <span className="mut">left out</span>
        )}
      </span>
    </li>
  );
}

/** Tie points, worst first, as pairs of what both images show there. */
export function TiesTab() {
  const { ties, facts } = useTies();
  const asked = usePairAsked();
  const bare = useBare();
  const sheet = useDesk((desk) => desk.sheets.adjust_models);
  const change = useDesk((desk) => desk.sheet);
  const most = (sheet?.params.most ?? null) as number | null;
  const leftOut = (sheet?.params.left_out ?? []) as number[];
  if (!ties.length || !asked) return <p className="empties">No tie points yet. Find them on the worksheet.</p>;
  const counts = (tie: Tie) =>
    tie.used && !leftOut.includes(tie.number) && (most === null || (tie.residual ?? 0) <= most);
  const used = ties.filter(counts).length;
  const toggle = (number: number) =>
    change("adjust_models", {
      params: {
        ...sheet?.params,
        left_out: leftOut.includes(number) ? leftOut.filter((one) => one !== number) : [...leftOut, number],
      },
    });
  return (
    <div className={styles.tietab}>
      <div className={styles.tielist}>
        <p role="status">
          <b className="n">{num(used)}</b> of <b className="n">{num(ties.length)}</b> kept, rms{" "}
          <b className="n">{num(facts.rms, 2)}</b> px. Worst first
          {ties.length > SHOWN && `, the worst ${SHOWN}`}. What is left out here counts when the models are adjusted
          again.
        </p>
        <ul className={styles.ties} aria-label="Tie points">
          {ties.slice(0, SHOWN).map((tie) => (
            <Card key={tie.number} tie={tie} out={leftOut.includes(tie.number)} onOut={() => toggle(tie.number)} />
          ))}
        </ul>
      </div>
      <Residuals
        ties={ties}
        counts={counts}
        most={most}
        onMost={(value) => change("adjust_models", { params: { ...sheet?.params, most: value } })}
      />
      <Spread ties={ties} counts={counts} image={asked.left} said={bare.map((one) => one.sentence)} />
    </div>
  );
}
