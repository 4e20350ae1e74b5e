import type { ComponentType } from "react";
import { create } from "zustand";
import type { Inputs, Probe, Quantity } from "../api/client";
import type { Dress } from "../map/dress";
import QUANTITIES from "../map/quantities.json";
import type { Stop } from "../map/ramps";
import type { Line, Place } from "../map/shapes";
import type { Graticule } from "../map/useGraticule";
import type { ShownAs } from "../map/useShown";
import { left, READ, type Tool } from "../tools/tool";
import { BENCHES, type BenchName } from "./benches";
import type { Overlay } from "./overlays";
import type { OwnTab } from "./ownTab";
import type { SurfaceKind, SurfaceOrder } from "./tabs/surfaces/list";

export type Slot = "a" | "b";
export type Mode = "alone" | "curtain" | "pair" | "several" | "blink" | "minus";
export type Stage = "Gather" | "Build" | "Join" | "Fit" | "Mend" | "Judge" | "Drain" | "Deliver";
export type Stretch = "whole" | "view" | "middle" | "typed";
/** A tab of the strip; those that worksheets bring along are called by their titles. */
export type Tab = "surfaces" | "lines" | "profile" | "heights" | "readings" | "recipe" | "tables" | `own ${string}`;

export const STAGES: Stage[] = ["Gather", "Build", "Join", "Fit", "Mend", "Judge", "Drain", "Deliver"];

/** How a quantity is coloured. stops: own ones instead of the ramp's. breaks: values at which one class gives way to the next. */
export interface Look {
  ramp: string;
  stops: Stop[] | null;
  reversed: boolean;
  breaks: number[] | null;
  stretch: Stretch;
  range: [number, number];
}

/** Where light comes from, and how strong the relief is that it makes; rise multiplies heights for it. */
export interface Light {
  azimuth: number;
  altitude: number;
  several: boolean;
  strength: number;
  rise: number;
  /** What darkens and brightens ground beside the light, and how much. */
  shade: Shade;
  depth: number;
}

export type Shade = "none" | "sky" | "contrast";

/** A look that was kept under a name. */
export interface KeptLook {
  name: string;
  quantity: Quantity;
  look: Look;
  light: Light;
}

/** What the heights tab shows. over: this view, all, the drawn area, or the number of a holding with polygons. */
export interface HeightsShown {
  over: "view" | "all" | "drawn" | number;
  ring: Place[] | null;
  what: "figures" | "levels";
  minus: boolean;
  levels: [number, number] | null;
  about: [number, number];
}

export interface Sheet {
  inputs: Inputs;
  params: Record<string, unknown>;
  name: string;
  /** Which of what it gives is looked at, and made beside what is always made; the first where there is none. */
  output?: string | null;
  /** The holding that is made again with something changed. */
  again?: number | null;
}

export interface ShownPreview {
  key: string;
  quantity: Quantity;
  coarse: boolean;
  outline: [number, number][][];
  /** What it is a preview of: the name that was typed for it, or what makes it. */
  of?: string;
  /** What it is made of, by role. */
  inputs?: Inputs;
  /** Whether the map shows what only nearly stands for it. */
  rough?: boolean;
  /** What it is called, where it is no preview of a worksheet's result. */
  title?: string;
}

/** What is only looked at so far and stands in A in the place of the surface of which it is a change. */
export interface InPlace {
  of: string;
  key: string;
  name: string;
}

/** A kept reading: what was in the slots then, by name and number, and what their cells said. */
export type Pinned = Omit<Probe, "others"> & {
  names: Partial<Record<Slot, string>>;
  quantities: Partial<Record<Slot, Quantity>>;
  ids?: Partial<Record<Slot, number>>;
};

/** What a holding is known by. */
export type Named = { id: number; key: string };

/** What is kept for a person in a project. */
export interface Remembered {
  slots: Record<Slot, string | null>;
  /** Whether anything was ever put in A or B; until then the first surface is put in A. */
  begun: boolean;
  mode: Mode;
  curtain: number;
  looks: Record<Quantity, Look>;
  light: Light;
  /** What is shown of heights. */
  shownAs: ShownAs;
  graticule: Graticule;
  /** Own ramps by name, and looks that were kept. */
  ramps: Record<string, Stop[]>;
  keptLooks: KeptLook[];
  stage: Stage;
  operation: string | null;
  sheets: Record<string, Sheet>;
  previewOn: boolean;
  tab: Tab;
  hidden: Record<string, boolean>;
  dress: Record<string, Partial<Dress>>;
  /** Whether lines with heights stand over A − B too. */
  linesOverMinus: boolean;
  pinned: Pinned[];
  /** The line a profile is drawn along, in the frame's CRS. */
  line: Line | null;
  /** The surfaces that are compared beside A and B, along a profile and side by side. */
  also: string[];
  /** Between two contours where surfaces stand side by side, in the frame's unit; null where there are none. */
  contoursEvery: number | null;
  heights: HeightsShown;
  view: { center: [number, number]; resolution: number } | null;
  /** Fixed holdings that have taken the place of their originals wherever those were chosen. */
  stoodIn: number[];
  /** Surfaces that somebody folded away in the strip. */
  foldedAway: number[];
  surfaceOrder: SurfaceOrder;
}

interface Desk extends Remembered {
  loaded: boolean;
  blinkB: boolean;
  blinkHeld: boolean;
  hovered: string | null;
  preview: ShownPreview | null;
  inPlace: InPlace | null;
  /** What worksheets and tabs show on the map, each for as long as it is open. */
  overlays: Overlay[];
  /** What the pointer does: the last of these, or reading where there is none. */
  tools: Tool[];
  bench: BenchName;
  /** The tabs of the strip that the open worksheet brings along. */
  ownTabs: OwnTab[];
  /** What the open worksheet lays over the map. */
  atMap: ComponentType | null;
  /** The lines, points or cloud whose dress is changed. */
  dressing: number | null;
  /** Levels that the map shows: below the lower as under water, above the upper bleached. */
  levels: [number, number] | null;
  /** Jobs that find figures on every cell, or the table that is there, by what was asked for. */
  measuring: Record<string, string | number>;
  /** The table that is open in the strip. */
  tabled: number | null;
  /** Features that are chosen: the holding and their numbers. */
  chosen: { holding: number; numbers: number[] };
  /** The holding whose inspection was asked for. */
  inspected: number | null;
  pointer: [number, number] | null;
  /** Whether the pointer is on the map now; where it was last stays above. */
  overMap: boolean;
  bounds: [number, number, number, number] | null;
  keysOpen: boolean;
  /** Which surfaces the strip shows. */
  sift: { text: string; kind: SurfaceKind };
  goTo: { x: number; y: number; resolution?: number } | "whole" | "in" | "out" | null;
  set: (change: Partial<Desk>) => void;
  put: (slot: Slot, key: string | null) => void;
  swap: () => void;
  /** Put fixed holdings in the place of their originals, wherever these are chosen. */
  standIn: (pairs: { old: Named; fixed: Named }[]) => void;
  look: (quantity: Quantity, change: Partial<Look>) => void;
  sheet: (operation: string, change: Partial<Sheet>) => void;
  /** Take a tool up, instead of any other but that of editing, which waits below it. */
  take: (tool: Exclude<Tool, { kind: "read" }>) => void;
  /** Lay down what somebody took up. */
  drop: (owner: string) => void;
  /** Esc: the tool in hand is laid down, or goes a step back. Whether there was one. */
  leave: () => boolean;
  open: (stage: Stage, operation?: string | null) => void;
}

const look = (ramp: string, range: [number, number], stretch: Stretch = "view"): Look => ({
  ramp,
  stops: null,
  reversed: false,
  breaks: null,
  stretch,
  range,
});

export const FRESH: Remembered = {
  slots: { a: null, b: null },
  begun: false,
  mode: "alone",
  curtain: 0.6,
  looks: Object.fromEntries(
    Object.entries(QUANTITIES).map(([name, { ramp, span, stretch }]) => [
      name,
      look(ramp, [span[0] ?? 0, span[1] ?? 1], stretch === "given" ? "typed" : (stretch as Stretch)),
    ]),
  ) as Record<Quantity, Look>,
  light: { azimuth: 315, altitude: 45, several: false, strength: 1, rise: 1, shade: "none", depth: 1 },
  shownAs: "height",
  graticule: "none",
  ramps: {},
  keptLooks: [],
  stage: "Build",
  operation: null,
  sheets: {},
  previewOn: true,
  tab: "surfaces",
  hidden: {},
  dress: {},
  linesOverMinus: false,
  pinned: [],
  line: null,
  also: [],
  contoursEvery: null,
  foldedAway: [],
  surfaceOrder: "newest",
  heights: { over: "view", ring: null, what: "figures", minus: false, levels: null, about: [0, 0] },
  view: null,
  stoodIn: [],
};

export const useDesk = create<Desk>((set, get) => ({
  ...FRESH,
  loaded: false,
  blinkB: false,
  blinkHeld: false,
  hovered: null,
  preview: null,
  inPlace: null,
  overlays: [],
  tools: [],
  bench: "map",
  ownTabs: [],
  atMap: null,
  overMap: false,
  measuring: {},
  tabled: null,
  levels: null,
  dressing: null,
  chosen: { holding: 0, numbers: [] },
  inspected: null,
  pointer: null,
  bounds: null,
  keysOpen: false,
  sift: { text: "", kind: "all" },
  goTo: null,
  set: (change) => set(change),
  put: (slot, key) => set((desk) => ({ slots: { ...desk.slots, [slot]: key }, begun: true })),
  swap: () => set((desk) => ({ slots: { a: desk.slots.b, b: desk.slots.a } })),
  standIn: (pairs) =>
    set((desk) => {
      const ids = new Map(pairs.map(({ old, fixed }) => [old.id, fixed.id]));
      const keys = new Map(pairs.map(({ old, fixed }) => [old.key, fixed.key]));
      const id = (one: number) => ids.get(one) ?? one;
      const key = (one: string | null) => (one === null ? null : (keys.get(one) ?? one));
      const sheets = Object.entries(desk.sheets).map(([operation, sheet]) => {
        const inputs = Object.entries(sheet.inputs).map(([role, given]) => [
          role,
          Array.isArray(given) ? [...new Set(given.map(id))] : given === undefined ? given : id(given),
        ]);
        return [operation, { ...sheet, inputs: Object.fromEntries(inputs) }];
      });
      return {
        sheets: Object.fromEntries(sheets),
        slots: { a: key(desk.slots.a), b: key(desk.slots.b) },
        also: desk.also.map((one) => keys.get(one) ?? one),
        stoodIn: [...desk.stoodIn, ...pairs.map(({ fixed }) => fixed.id)],
      };
    }),
  look: (quantity, change) =>
    set((desk) => ({ looks: { ...desk.looks, [quantity]: { ...desk.looks[quantity], ...change } } })),
  sheet: (operation, change) =>
    set((desk) => {
      const before = desk.sheets[operation] ?? { inputs: {}, params: {}, name: "" };
      return { sheets: { ...desk.sheets, [operation]: { ...before, ...change } } };
    }),
  take: (tool) =>
    set((desk) => ({
      tools: [...desk.tools.filter((one) => one.kind === "edit" && one.owner !== tool.owner), tool],
      // a tool that the bench in front does not obey brings one to front that does
      bench: BENCHES[desk.bench].tools.includes(tool.kind) ? desk.bench : "map",
    })),
  drop: (owner) => set((desk) => ({ tools: desk.tools.filter((one) => !("owner" in one) || one.owner !== owner) })),
  leave: () => {
    const { tools } = get();
    const tool = tools.at(-1);
    // editing with nothing but choosing ends with its worksheet
    if (!tool || (tool.kind === "edit" && tool.with === "choose")) return false;
    const back = left(tool);
    set({ tools: back ? [...tools.slice(0, -1), back] : tools.slice(0, -1) });
    return true;
  },
  open: (stage, operation = null) => set({ stage, operation }),
}));

/** What the pointer does now. */
export const toolOf = (desk: { tools: Tool[] }): Tool => desk.tools.at(-1) ?? READ;

/** The editing of lines, whether in hand or waiting below another tool. */
export const editOf = (desk: { tools: Tool[] }) => desk.tools.find((one) => one.kind === "edit");

/** The part of the desk that is kept. */
export function remembered(desk: Remembered): Remembered {
  return Object.fromEntries(
    Object.keys(FRESH).map((name) => [name, desk[name as keyof Remembered]]),
  ) as unknown as Remembered;
}

/** A remembered desk made whole: what is missing or was kept by an earlier version takes its fresh value. */
export function restored(kept: Partial<Remembered>): Remembered {
  return {
    ...FRESH,
    ...kept,
    slots: { ...FRESH.slots, ...kept.slots },
    begun: kept.begun ?? Boolean(kept.slots?.a || kept.slots?.b),
    looks: Object.fromEntries(
      Object.entries(FRESH.looks).map(([quantity, fresh]) => [
        quantity,
        { ...fresh, ...kept.looks?.[quantity as Quantity] },
      ]),
    ) as Record<Quantity, Look>,
    light: { ...FRESH.light, ...kept.light },
    heights: { ...FRESH.heights, ...kept.heights },
  };
}
