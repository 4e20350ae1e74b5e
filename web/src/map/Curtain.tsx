import type { KeyboardEvent, PointerEvent } from "react";
import { useDesk } from "../desk/store";
import styles from "./curtain.module.css";

/** The boundary between A on its left and B on its right; dragged, or moved with the arrow keys. */
export function Curtain() {
  const share = useDesk((desk) => desk.curtain);
  const set = useDesk((desk) => desk.set);
  const drag = (event: PointerEvent<HTMLDivElement>) => {
    const pane = event.currentTarget.parentElement;
    if (event.buttons !== 1 || !pane) return;
    const box = pane.getBoundingClientRect();
    set({ curtain: Math.min(Math.max((event.clientX - box.left) / box.width, 0.02), 0.98) });
  };
  const nudge = (event: KeyboardEvent) => {
    const step = { ArrowLeft: -0.02, ArrowRight: 0.02 }[event.key];
    if (step) set({ curtain: Math.min(Math.max(share + step, 0.02), 0.98) });
  };
  return (
    <div
      className={styles.curtain}
      role="slider"
      tabIndex={0}
      aria-label="Curtain"
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(share * 100)}
      style={{ left: `${share * 100}%` }}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        event.preventDefault();
      }}
      onPointerMove={drag}
      onKeyDown={nudge}
    >
      <i>
        <b style={{ color: "var(--ember)" }}>A</b>
        <b style={{ color: "var(--indigo)" }}>B</b>
      </i>
    </div>
  );
}
