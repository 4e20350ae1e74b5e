import { create } from "zustand";
import type { Network } from "../api/client";

/** A place whose catchment is asked for, in the frame's CRS. */
export interface Outlet {
  /** Until it is called by something near it. */
  name: string;
  x: number;
  y: number;
}

/** Where a surface is looked at: in A, in B, or in neither. */
export type Slot = "a" | "b" | "none";
export const LETTER: Record<Slot, string> = { a: "A", b: "B", none: "It" };

/** Streams that are looked at. */
export interface Looked {
  slot: Slot;
  content: Network;
}

/** A kind of line that is drawn on the map, or of a mark; width in pixels. */
export interface LegendEntry {
  title: string;
  ink: string;
  width: number;
  dashed: boolean;
  mark?: boolean;
}

interface DrainState {
  outlets: Outlet[];
  /** Metres that an outlet may be moved to where most ground drains. */
  snap: number;
  /** Known rivers that streams are held against, by number; null is none, undefined those that are called so. */
  reference: number | null | undefined;
  /** Metres within which they count as found. */
  within: number;
  /** The height in metres up to which what reaches the rim of the surface beside is sea; undefined as of the other. */
  seaBeside: number | null | undefined;
  /** Whether only the stretches are drawn along which both networks part. */
  apart: boolean;
  /** Whether only streams above the outlets are drawn and made. */
  above: boolean;
  /** The slot of which all places are told where its streams part from the reference. */
  parted: Slot | null;
  /** From where water is followed down. */
  from: { x: number; y: number } | null;
  /** What the worksheet looks at: its own first, and what is beside it. */
  looked: Looked[];
  /** What is drawn on the map. */
  legend: LegendEntry[];
  /** A kept network that is looked at beside, instead of the other slot's surface as the worksheet conditions it. */
  beside: Network | null;
  set: (change: Partial<DrainState>) => void;
}

/** What is asked of the water over surfaces, for as long as the page is open. */
export const useDrainState = create<DrainState>((set) => ({
  outlets: [],
  snap: 50,
  reference: undefined,
  within: 20,
  seaBeside: undefined,
  apart: false,
  above: false,
  parted: null,
  from: null,
  looked: [],
  legend: [],
  beside: null,
  set,
}));
