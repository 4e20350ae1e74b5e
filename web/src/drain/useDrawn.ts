import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { call, type Streams, type WayDown } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { num } from "../desk/format";
import { type InkedLine, useOverlay } from "../desk/overlays";
import { INKS, SLOT_INKS } from "../map/dress";
import { type Collection, type Line, linesOf } from "../map/shapes";
import { LETTER, type LegendEntry, type Slot, useDrainState } from "./state";
import type { useDrained } from "./useDrained";

const WIDEST = 5; // pixels of a stream of the highest order
const INK: Record<Slot, string> = { ...SLOT_INKS, none: INKS[0] as string };
/** The rim of a catchment: a band that lets the ground through, or dashes. */
const ringOf = (slot: Slot) =>
  slot === "b" ? { ink: INK.b, width: 2, dashed: true } : { ink: `${INK[slot]}8C`, width: 7, dashed: false };
const UNSURE = { ink: "#9C2B2B", width: 2, dashed: true }; // of what is not to be trusted
const RIVER = { ink: "#5E6A70", width: 1.6, dashed: false };
const TOLD = 5; // places where the streams of a slot leave the rivers that are told unless all are asked for

/** The water of a surface that is looked at. */
export interface DrawnWater {
  slot: Slot;
  found: ReturnType<typeof useDrained>;
}

function streamsOf(slot: Slot, streams: Streams | undefined, way: WayDown | undefined): InkedLine[] {
  const ink = INK[slot];
  const down = way?.line?.length ? [{ line: way.line, ink, width: 4, dashed: true }] : [];
  // low orders first, so that they lie below
  const links = [...(streams?.streams ?? [])].reverse();
  const unsure = (streams?.unsure ?? []).map((line) => ({ line, ...UNSURE }));
  return [...links.map(({ order, line }) => ({ line, ink, width: Math.min(0.8 + order, WIDEST) })), ...unsure, ...down];
}

function legendOf(drawn: DrawnWater[], rivers: boolean, partings: boolean): LegendEntry[] {
  const of = (slot: Slot) => (slot === "none" ? "" : ` of ${LETTER[slot]}`);
  const entries: LegendEntry[] = drawn.flatMap(({ slot, found }) => {
    const ink = INK[slot];
    const streams = found.streams?.streams?.length
      ? [{ title: `streams${of(slot)}, by order`, ink, width: 3, dashed: false }]
      : [];
    const rings = found.catchments.some((one) => one.rings.length);
    const way = found.way?.line?.length
      ? [{ title: `way of water in ${LETTER[slot]}`, ink, width: 4, dashed: true }]
      : [];
    return [...streams, ...(rings ? [{ title: `catchments${of(slot)}`, ...ringOf(slot) }] : []), ...way];
  });
  if (rivers) entries.push({ title: "reference", ...RIVER });
  if (partings) entries.push({ title: "parts from the reference", ...RIVER, mark: true });
  if (drawn.some(({ found }) => found.streams?.unsure?.length))
    entries.push({ title: "level ground, not to be trusted", ...UNSURE });
  return entries;
}

/** The lines of known rivers. */
function useRiverLines(reference: number | null): Line[] {
  const project = useProject();
  const { data } = useQuery({
    queryKey: KEYS.drawn(project.id, reference ?? 0, project.frame.grid.crs),
    queryFn: () => call<Collection>("GET", `/projects/${project.id}/holdings/${reference}/features`),
    enabled: reference !== null,
    staleTime: Infinity,
  });
  return useMemo(
    () =>
      (reference === null ? [] : (data?.features ?? [])).flatMap(({ geometry }) =>
        geometry.type.includes("Line")
          ? linesOf(geometry).map((line) => line.map(([x = 0, y = 0]): [number, number] => [x, y]))
          : [],
      ),
    [reference, data],
  );
}

/**
 * Draws the water of surfaces on the map, the first one over the others, with rivers that it is held against and where
 * streams part from these, unless only some of them are drawn; and says in the legend what is drawn.
 */
export function useDrawn(drawn: DrawnWater[], reference: number | null): void {
  const { set, parted, above } = useDrainState();
  const rivers = useRiverLines(reference);
  // of two surfaces at most, so that there are always as many
  const answers = [drawn[0], drawn[1]].flatMap((one) => [
    one?.slot,
    one?.found.streams,
    one?.found.catchments,
    one?.found.way,
    one?.found.likeness,
  ]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is drawn follows from the answers
  const lines = useMemo(() => {
    const rings = drawn
      .flatMap(({ slot, found }) =>
        found.catchments.flatMap((one) => one.rings.map((line) => ({ line, ...ringOf(slot) }))),
      )
      .sort((one, other) => other.width - one.width); // dashes over bands
    const water = [...drawn].reverse().flatMap(({ slot, found }) => streamsOf(slot, found.streams, found.way));
    return [...rings, ...rivers.map((line) => ({ line, ...RIVER })), ...water];
  }, [...answers, rivers]);
  useOverlay("inked", lines);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is told follows from the answers
  const told = useMemo(
    () =>
      drawn.flatMap(({ slot, found }) =>
        (above ? [] : (found.likeness?.partings ?? [])).slice(0, parted === slot ? undefined : TOLD).map((one) => ({
          at: [one.x, one.y] as [number, number],
          ink: INK[slot],
          words: one.of_reference
            ? `not found in ${LETTER[slot]}, ${num(one.away)} m`
            : `${LETTER[slot]} ${num(one.away)} m off`,
        })),
      ),
    [...answers, parted, above],
  );
  useOverlay("told", told.length ? told : null);
  const legend = JSON.stringify(legendOf(drawn, rivers.length > 0, told.length > 0));
  useEffect(() => set({ legend: JSON.parse(legend) as LegendEntry[] }), [legend, set]);
  useEffect(() => () => set({ legend: [], parted: null }), [set]);
}
