import { keepPreviousData, useQuery } from "@tanstack/react-query";
import {
  type Catchments,
  type CatchmentsAsked,
  call,
  type Drained,
  type Network,
  type NetworkLikeness,
  type Streams,
  type StreamsAsked,
  type WayDown,
} from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";
import { useDrainState } from "./state";
import { useNamed } from "./useReference";
import { useWorkedOut } from "./useWorkedOut";

const TOLD = [KEYS.streams, KEYS.catchments, KEYS.figures];
const NONE: NonNullable<Catchments["catchments"]> = [];
const PAUSE = 60; // milliseconds that a threshold stays before streams are asked for at it

/** How water over a surface finds its way, without where streams begin. */
export function drainedOf(content: Network): Drained {
  const { begins_at, minimum_length, over_level, heads, ...drained } = content;
  return drained;
}

/**
 * Streams of a surface, the catchments of the outlets, and how alike streams are to known rivers. Water over it is worked out by a job, once for each way of
 * conditioning; from then on all of it is told at once. other: what is looked at beside it; compared: whether catchments are held
 * against those of that.
 */
export function useDrained(asked: Network | null, reference: number | null, other: Network | null, compared: boolean) {
  const project = useProject();
  const base = `/projects/${project.id}/drainage`;
  const beginsAt = useSettled(asked?.begins_at ?? 0, PAUSE);
  const bounds = useSettled(
    useDesk((desk) => desk.bounds),
    300,
  );
  const pixel = bounds ? (bounds[2] - bounds[0]) / 800 : null;
  const { outlets, snap, within, from, apart, above } = useDrainState();
  const named = useNamed();
  const apartFrom = apart ? other : null;
  const streamsBody: StreamsAsked | null = asked && {
    ...asked,
    begins_at: beginsAt,
    bounds,
    pixel,
    apart_from: apartFrom,
    within,
    above: above ? outlets : [],
    snap,
  };
  const streams = useQuery({
    queryKey: KEYS.streams(project.id, project.frame.mark, streamsBody),
    queryFn: ({ signal }) => call<Streams>("POST", `${base}/streams`, streamsBody, signal),
    // the first moment has neither a threshold nor a view
    enabled: asked !== null && beginsAt > 0 && bounds !== null,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const known = streams.data?.known ?? false;
  const drained = asked && drainedOf(asked);
  const held = compared && other ? drainedOf(other) : null;
  const catchmentsBody: CatchmentsAsked | null = drained && { ...drained, outlets, snap, pixel, beside: held, named };
  const catchments = useQuery({
    queryKey: KEYS.catchments(project.id, project.frame.mark, catchmentsBody),
    queryFn: ({ signal }) => call<Catchments>("POST", `${base}/catchments`, catchmentsBody, signal),
    enabled: known && outlets.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const likenessBody = asked && { ...asked, begins_at: beginsAt, reference, within };
  const likeness = useQuery({
    queryKey: KEYS.likeness(project.id, project.frame.mark, likenessBody),
    queryFn: ({ signal }) => call<NetworkLikeness>("POST", `${base}/likeness`, likenessBody, signal),
    enabled: known && reference !== null,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const wayBody = drained && from && { ...drained, ...from };
  const way = useQuery({
    queryKey: KEYS.wayDown(project.id, project.frame.mark, wayBody),
    queryFn: ({ signal }) => call<WayDown>("POST", `${base}/way`, wayBody, signal),
    enabled: known && wayBody !== null,
    retry: false,
    staleTime: 60_000,
  });
  const work = useWorkedOut(base, drained, streams.data?.known === false && !streams.isPlaceholderData, TOLD);
  const error = streams.error ?? catchments.error ?? likeness.error;
  return {
    ...work,
    streams: known && !streams.error ? streams.data : undefined,
    catchments: known && outlets.length ? (catchments.data?.catchments ?? NONE) : NONE,
    /** Whether these are the catchments of the outlets as they are now. */
    caught: catchments.data !== undefined && !catchments.isPlaceholderData,
    likeness: known && reference !== null && !likeness.error ? likeness.data : undefined,
    way: known && from ? way.data : undefined,
    noWay: from ? way.error?.message : undefined,
    failed: error?.message ?? work.failed,
  };
}
