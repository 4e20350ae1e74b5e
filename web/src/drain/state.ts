import { create } from "zustand";

/** A place whose catchment is asked for, in the frame's CRS. */
export interface Outlet {
  name: string;
  x: number;
  y: number;
}

interface DrainState {
  outlets: Outlet[];
  /** Metres that an outlet may be moved to where most ground drains. */
  snap: number;
  /** Known rivers that streams are held against, by number; null is none, undefined those that are called so. */
  reference: number | null | undefined;
  /** Metres within which they count as found. */
  within: number;
  /** From where water is followed down. */
  from: { x: number; y: number } | null;
  set: (change: Partial<DrainState>) => void;
}

/** What is asked of the water over surfaces, for as long as the page is open. */
export const useDrainState = create<DrainState>((set) => ({
  outlets: [],
  snap: 50,
  reference: undefined,
  within: 20,
  from: null,
  set,
}));
