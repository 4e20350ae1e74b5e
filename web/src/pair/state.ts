import { create } from "zustand";

interface PairState {
  /** The left image that all this is about. */
  image: number | null;
  /** Column and row of the left image under the pointer. */
  hover: [number, number] | null;
  /** Column and row of the middle of the window that is tried. */
  window: [number, number] | null;
  /** Where the window is dragged to, until it is let go. */
  dragged: [number, number] | null;
  /** Whether both images are shown on the plane on whose rows they meet, instead of as they were taken. */
  epipolar: boolean;
  /** The number of the tie point that is shown. */
  tie: number | null;
  /** Whether the next press on the left image adds a tie point. */
  adding: boolean;
  /** By how much residuals are drawn larger. */
  sticks: number;
  set: (change: Partial<Omit<PairState, "set">>) => void;
}

/** What the two images and the parts around them share while they are looked at. */
export const usePairState = create<PairState>((set) => ({
  image: null,
  hover: null,
  window: null,
  dragged: null,
  epipolar: false,
  tie: null,
  adding: false,
  sticks: 200,
  set,
}));

export const STICKS = [50, 200, 1000];
/** Cells along each side of the window that is tried. */
export const WINDOW = 256;
