import type { ReactNode } from "react";
import styles from "./icons.module.css";
import type { Stage } from "./store";

/** Yama's mark: two summits, the nearer one solid. */
export const Mark = () => (
  <svg
    viewBox="0 0 28 20"
    width="28"
    height="20"
    fill="none"
    stroke="#1F2A30"
    strokeWidth="1.5"
    strokeLinejoin="round"
    aria-hidden="true"
  >
    <path d="M2 17.5 10.5 3.5l5 8" strokeLinecap="round" />
    <path d="M11 17.5l7-10.5 8 10.5z" fill="#1F2A30" />
  </svg>
);

export const Caret = () => (
  <svg className={styles.car} viewBox="0 0 8 5" width="8" height="5" aria-hidden="true">
    <path d="M1 1l3 3 3-3" />
  </svg>
);

const STAGE: Record<Stage, ReactNode> = {
  Gather: (
    <>
      <path d="M2 15.5h20" className={styles.f} />
      <path d="M4 11.5h0M8 7h0M12 12h0M13 4.5h0M17.5 9h0M20.5 5.5h0" className={styles.d} />
    </>
  ),
  Build: (
    <>
      <path d="M3 13 8.5 5.5 14 10.5 21 3.5" />
      <path d="M3 13h0M8.5 5.5h0M14 10.5h0M21 3.5h0" className={styles.d} />
      <path d="M2 16h20" className={styles.f} />
    </>
  ),
  Join: (
    <>
      <path d="M2 12.5C5 12.5 6.5 5 10 5c2 0 2.6 1.6 4 2.6" />
      <path d="M9.5 9.2c1.6 0 2.5-1.2 4.5-1.6C17 7 18 12.5 22 12.5" />
      <path d="M9.5 16h5" className={styles.f} />
    </>
  ),
  Fit: (
    <>
      <path d="M2 9C6 9 7 3.5 12 3.5S18 9 22 9" />
      <path d="M4.5 16V8.2M9.5 16V4.3M14.5 16V4.3M19.5 16V8.2" className={styles.f} />
    </>
  ),
  Mend: (
    <>
      <path d="M2 12C4.5 12 5 8.6 8 6.8M16 6.8c3 1.8 3.5 5.2 6 5.2" />
      <path d="M8.6 6.4C10.8 5 13.2 5 15.4 6.4" strokeDasharray="1.6 1.7" />
      <path d="M2 16h20" className={styles.f} />
    </>
  ),
  Judge: (
    <>
      <path d="M2 13C7 13 8 4 13 4c4 0 5 5 9 5" />
      <path d="M2 10c5 0 6 4 11 4 4 0 5-2 9-2" className={styles.f} />
      <path d="M13 5.6v6.8" strokeDasharray="1.4 1.4" />
    </>
  ),
  Drain: (
    <>
      <path d="M2 4c4 0 6 9.5 10 9.5S18 4 22 4" />
      <path d="M12 3.5v5.6M9.9 7.2 12 9.3l2.1-2.1" />
      <path d="M9.8 16.4h4.4" className={styles.f} />
    </>
  ),
  Deliver: (
    <>
      <path d="M4 2.5h16v13H4z" className={styles.f} />
      <path d="M4 12.2C8 12.2 8.6 7 12 7s4 3 8 3" />
    </>
  ),
};

export const StageIcon = ({ stage }: { stage: Stage }) => (
  <svg viewBox="0 0 24 18" width="24" height="18" aria-hidden="true">
    {STAGE[stage]}
  </svg>
);

/** The same five points seen by a method: how it goes from one to the next. */
export const METHOD_CURVES: Record<string, string> = {
  triangulation: "M1 16.5 6 14 24 4.5 44 11.5 66 5.5 71 6.5",
  natural_neighbour: "M1 16.2C3 15.5 5 14.6 6 14 11 11.5 20 5.5 24 4.5 30 4.3 38 11 44 11.5 52 11.5 60 6.5 66 5.5L71 6",
  inverse_distance:
    "M1 13.2C4 13.4 5 13.6 6 14c1-1.6 3-4.6 9-5.2C21 8.4 23 6 24 4.5c1 1.6 3 4 10 4.4 7 .3 9 1.6 10 2.6 1-1 4-2.4 11-2.8 7-.4 10-2 11-3.2 1 .7 3 1.4 5 1.7",
  spline: "M1 17.5C3 16.4 5 14.8 6 14 11 9.5 18 2.6 24 4.5 31 6.8 37 12.8 44 11.5 52 10 59 3.6 66 5.5L71 8.5",
  kriging: "M1 12.5C3 13.4 5 13.9 6 14 12 12.6 19 5.6 24 4.5 31 4.2 37 10.8 44 11.5 51 11.2 60 7.6 66 5.5L71 6.8",
  nearest: "M1 14h14V4.5h19v7h21v-6h16",
};

export const MethodIcon = ({ method }: { method: string }) => (
  <svg viewBox="0 0 72 19" width="72" height="19" aria-hidden="true">
    <path d={METHOD_CURVES[method]} />
    <path d="M6 14h0M24 4.5h0M44 11.5h0M66 5.5h0" className={styles.d} />
  </svg>
);

/** The sign of a finding's weight: open, half full, full. */
export const WeightIcon = ({ weight }: { weight: "note" | "caution" | "stop" }) => {
  const colour = { note: "#5E6A70", caution: "#9A6B00", stop: "#9C2B2B" }[weight];
  return (
    <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
      <circle cx="6" cy="6" r="5" fill={weight === "stop" ? colour : "none"} stroke={colour} strokeWidth="1.4" />
      {weight === "caution" && <path d="M6 1a5 5 0 0 1 0 10z" fill={colour} />}
      {weight === "stop" && <path d="M3.5 6h5" stroke="#fff" strokeWidth="1.6" />}
    </svg>
  );
};
