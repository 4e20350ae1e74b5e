import { type DragEvent, useState } from "react";
import { useProject } from "../../desk/context";
import { num, percent, shortUnit, size } from "../../desk/format";
import { accuracyOf, type Source } from "../../desk/products";
import { patchOf } from "../../map/ramps";
import { Check, Tick } from "../../ui/Check";
import styles from "./sources.module.css";
import type { Overlaps } from "./useOverlaps";

/** A number with its sign. */
export const signed = (value: number, decimals = 2) => `${value > 0 ? "+" : ""}${num(value, decimals)}`;

/** Surfaces of the mosaic in their order, the best first: dragged, or moved with the arrow keys; and those left out. */
export function Sources(props: {
  chosen: Source[];
  others: Source[];
  overlaps: Overlaps | null | undefined;
  levelled: boolean;
  held: number;
  onChange: (sources: Source[]) => void;
}) {
  const { chosen, others, overlaps, levelled, held, onChange } = props;
  const [dragged, setDragged] = useState<number | null>(null);
  const move = (from: number, to: number) => {
    if (to < 0 || to >= chosen.length || from === to) return;
    const next = chosen.filter((_, i) => i !== from);
    next.splice(to, 0, chosen[from] as Source);
    onChange(next);
  };
  const over = (event: DragEvent, to: number) => {
    event.preventDefault();
    if (dragged === null || dragged === to) return;
    move(dragged, to);
    setDragged(to);
  };
  const unit = shortUnit(useProject().frame.unit);
  const fits = overlaps && overlaps.planes.length === chosen.length;
  const moved = (i: number) => {
    if (!levelled || !fits) return "";
    if (i === held) return "held";
    if (overlaps.alone.includes(i)) return "not tied";
    return `${signed(overlaps.planes[i]?.offset ?? 0)} ${unit}`;
  };
  return (
    <>
      <ol className={styles.sources} aria-label="Surfaces, best first">
        {chosen.map((one, i) => {
          const accuracy = accuracyOf(one);
          return (
            <li
              key={one.holdings[0]?.id}
              className={dragged === i ? styles.dragged : ""}
              draggable
              onDragStart={(event) => {
                event.dataTransfer.effectAllowed = "move";
                setDragged(i);
              }}
              onDragOver={(event) => over(event, i)}
              onDragEnd={() => setDragged(null)}
              onDrop={(event) => event.preventDefault()}
            >
              <button
                type="button"
                className={styles.grip}
                aria-label={`${one.name}, place ${i + 1} of ${chosen.length}`}
                title="Drag, or move with the arrow keys"
                onKeyDown={(event) => {
                  const step = { ArrowUp: -1, ArrowDown: 1 }[event.key];
                  if (!step) return;
                  event.preventDefault();
                  move(i, i + step);
                }}
              >
                <svg viewBox="0 0 6 10" width="6" height="10" aria-hidden="true">
                  <path d="M1 1h0M1 5h0M1 9h0M5 1h0M5 5h0M5 9h0" />
                </svg>
              </button>
              <Tick
                checked
                label={`Use ${one.name}`}
                onChange={() => onChange(chosen.filter((other) => other !== one))}
              />
              <div>
                <i className="patch" style={{ background: patchOf(i) }} />
                <b className="name" title={one.name}>
                  {one.name}
                </b>
                <span className="n share" title="Share of the mosaic's cells that come from it">
                  {fits ? percent(overlaps.shares[i] ?? 0) : ""}
                </span>
              </div>
              <div className="mut">
                <span>
                  <span className="n">{size(one.holdings[0]?.surface?.cell_size ?? 0)}</span> m
                  {one.holdings.length > 1 && (
                    <>
                      , <span className="n">{one.holdings.length}</span> tiles
                    </>
                  )}
                </span>
                {accuracy && (
                  <span title="RMSE at the checkpoints">
                    RMSE <span className="n">{num(accuracy.rmse, accuracy.rmse < 100 ? 2 : 0)}</span> {unit}
                  </span>
                )}
                <span className="n moved" title="What levelling adds in the middle of the frame">
                  {moved(i)}
                </span>
              </div>
              <i
                className="bar"
                style={{ width: `${fits ? (overlaps.shares[i] ?? 0) * 100 : 0}%`, background: patchOf(i) }}
              />
            </li>
          );
        })}
      </ol>
      {others.length > 0 && (
        <details className={styles.leftout} open={chosen.length === 0}>
          <summary>
            <span className="n">{others.length}</span> not used
          </summary>
          {others.map((one) => (
            <Check
              key={one.holdings[0]?.id}
              label={one.holdings.length > 1 ? `${one.name}, ${one.holdings.length} tiles` : one.name}
              figure={`${size(one.holdings[0]?.surface?.cell_size ?? 0)} m`}
              checked={false}
              onChange={() => onChange([...chosen, one])}
            />
          ))}
        </details>
      )}
    </>
  );
}
