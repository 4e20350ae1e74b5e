import { create } from "zustand";

/** How large the lens is at first, in pixels; it is never narrower. */
export const LENS = { width: 330, height: 190 };

interface MendState {
  /** The patch or keep-out that is open. */
  chosen: string | null;
  /** Whether what is drawn next is a keep-out. */
  keepOut: boolean;
  /** The operator that was chosen last, with which a new patch begins. */
  operator: string;
  /** Metres that a stroke of the brush is wide. */
  brush: number;
  /** Whether what is drawn snaps to outlines and features. */
  snaps: boolean;
  /** How far an outline grows: metres up and down, and degrees of slope. */
  grow: { height: number; slope: number };
  /** The suspect that is looked at, by its place in the list. */
  suspect: number | null;
  /** How large the lens on the map is; null where there is none. */
  lens: { width: number; height: number } | null;
  set: (change: Partial<Omit<MendState, "set">>) => void;
}

/** What the worksheet, the map and the strip share while a surface is mended. */
export const useMend = create<MendState>((set) => ({
  chosen: null,
  keepOut: false,
  operator: "smooth",
  brush: 12,
  snaps: true,
  grow: { height: 1, slope: 10 },
  suspect: null,
  lens: null,
  set,
}));
