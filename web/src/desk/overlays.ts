import { useEffect, useId, useState } from "react";
import type { ContourLine, Facets, GraticuleLine } from "../api/client";
import type { Line, Place, Ring } from "../map/shapes";
import { useDesk } from "./store";
import { useEscape } from "./useEscape";

/** A footprint of a tile while tiles are chosen. */
export interface Footprint {
  name: string;
  ring: Ring;
  look: "chosen" | "open" | "received" | "arriving" | "failed";
  word: string;
}

/** An area that is mended or left alone: an outline, or a line with a width in metres on the ground. */
export interface Outlined {
  name: string;
  title: string;
  places: Line;
  width: number | null;
  look: "chosen" | "patch" | "off" | "wrong" | "kept out";
  press: () => void;
}

/** Something suspect, with the number it has in the list. */
export interface SuspectPlace {
  number: number;
  at: Place;
  here: boolean;
  press: () => void;
}

/** A line in a colour; width in pixels, 2 where it is not given. */
export interface InkedLine {
  line: Line;
  ink: string;
  width?: number;
  dashed?: boolean;
}

/** A place with a few words in a colour. */
export interface ToldPlace {
  at: Place;
  ink: string;
  words: string;
}

/** What can be shown over surfaces, by kind. */
export interface Overlays {
  /** Places that findings and lists speak of. */
  places: Place[];
  /** Points of a table that is looked at before it is taken in. */
  dots: Place[];
  /** Errors at points, as shares of the size at which their colour is full; null where nothing was predicted. */
  errors: { x: number; y: number; share: number | null }[];
  /** Rims of holes. */
  rims: Line[];
  /** Lines along which one surface gives way to another, and areas that were given to one. */
  seams: Line[];
  /** Lines in a colour of their own: shores of water in each surface, arrows of shifts, streams, catchments. */
  inked: InkedLine[];
  /** Contours that are looked at before they are made. */
  contours: { lines: ContourLine[]; unit: string };
  /** Tiles, and what a press on one does. */
  footprints: { tiles: Footprint[]; press: (name: string) => void };
  /** The area that is asked for. */
  area: Ring;
  /** The line of a profile, and the place on it under the pointer. */
  profile: { line: Line; at: Place | null };
  facets: Facets;
  /** Lines of equal coordinates. */
  graticule: GraticuleLine[];
  /** Patches and keep-outs of a surface, and how many pixels of the map's units are a metre. */
  patches: { outlines: Outlined[]; perMetre: number };
  suspects: SuspectPlace[];
  /** Places of which something is said on the map; the first ones where there is no room for all. */
  told: ToldPlace[];
}

export type Overlay = { [K in keyof Overlays]: { owner: string; kind: K; shown: Overlays[K] } }[keyof Overlays];

/**
 * Shows something over the surfaces for as long as the component that asks is there; nothing where it is null. What is shown
 * must stay the same object until it changes.
 */
export function useOverlay<K extends keyof Overlays>(kind: K, shown: Overlays[K] | null): void {
  const owner = useId();
  useEffect(() => {
    if (shown === null) return;
    const overlay = { owner, kind, shown } as Overlay;
    useDesk.setState((desk) => ({ overlays: [...desk.overlays, overlay] }));
    return () => useDesk.setState((desk) => ({ overlays: desk.overlays.filter((one) => one !== overlay) }));
  }, [owner, kind, shown]);
}

const MOST = 500; // more marks than that hide the map

/** Places on the map that are shown at a press and go at another, at Esc, or with the component. */
export function usePlaces(): { shown: boolean; show: (places: Place[] | null) => void } {
  const [places, setPlaces] = useState<Place[] | null>(null);
  useOverlay("places", places);
  useEscape(places ? () => setPlaces(null) : null);
  return {
    shown: places !== null,
    show: (next) => {
      setPlaces(next?.length ? next.slice(0, MOST) : null);
      if (next?.length) useDesk.getState().set({ bench: "map" });
    },
  };
}
