import { useMutation, useMutationState, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Entry, type Holding, type Stack } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import type { Line } from "../map/shapes";
import type { KeepOutContent, PatchContent } from "./operators";

const OFTEN = 4000; // milliseconds between two looks at what others do

interface Common {
  name: string;
  last: number;
  by: string;
  at: string;
}
export type PatchEntry = Common & { kind: "patch"; content: PatchContent };
export type KeepOutEntry = Common & { kind: "keep_out"; content: KeepOutContent };
export type AnyEntry = PatchEntry | KeepOutEntry;

/** What is done to an entry: see the service's `SaysIn`. */
export interface Says {
  name: string;
  kind?: Entry["kind"];
  content?: PatchContent | KeepOutContent;
  before?: string;
  gone?: boolean;
}

export type StackRequest = Says[] | "undo" | "redo" | { other: number | null } | { kept: number };

/** A name for a new entry. */
export const freshName = (): string => crypto.randomUUID().replaceAll("-", "").slice(0, 12);

const NOTHING: Stack = { version: 0, entries: [], other: null, undo: "", redo: "", said: [] };

/** What the stack looks like while the service is still asked: what changes is changed, nothing is added. */
function meanwhile(stack: Stack, says: Says[]): Stack {
  const by = new Map(says.map((one) => [one.name, one]));
  const entries = (stack.entries ?? []).flatMap((entry): Entry[] => {
    const said = by.get(entry.name);
    if (said?.gone) return [];
    return [said?.content ? { ...entry, content: said.content as unknown as Entry["content"] } : entry];
  });
  return { ...stack, entries };
}

/** The patches and keep-outs over a surface, everybody's, and the way to change them. */
export function useStack(surface: Holding | undefined) {
  const project = useProject();
  const queries = useQueryClient();
  const id = surface?.id;
  const key = useMemo(() => KEYS.patches(project.id, id), [project.id, id]);
  const path = `/projects/${project.id}/holdings/${id}/patches`;
  const stack = useQuery({
    queryKey: key,
    queryFn: async ({ signal }) => {
      const before = queries.getQueryData<Stack>(key);
      const since = before ? `?since=${before.version}` : "";
      const answer = await call<Stack>("GET", `${path}${since}`, undefined, signal);
      // what was changed meanwhile is newer than what was asked for before it
      const now = queries.getQueryData<Stack>(key);
      if (now && (answer.entries === null || answer.version < now.version)) return now;
      return { ...answer, said: now?.said ?? [] };
    },
    refetchInterval: OFTEN,
    staleTime: OFTEN,
    enabled: id !== undefined,
  });
  const change = useMutation({
    mutationKey: key,
    scope: { id: `patches-${id}` }, // one after the other, in the order they were made
    mutationFn: async (what: StackRequest) => {
      if (typeof what === "string") return call<Stack>("POST", `${path}/${what}`);
      if ("kept" in what) return call<Stack>("POST", `${path}/kept`, what);
      if ("other" in what) return call<Stack>("PUT", `${path}/other`, what);
      const held = new Map(queries.getQueryData<Stack>(key)?.entries?.map((one) => [one.name, one.last]));
      return call<Stack>("POST", path, { says: what.map((one) => ({ ...one, seen: held.get(one.name) ?? null })) });
    },
    onMutate: async (what) => {
      await queries.cancelQueries({ queryKey: key });
      const before = queries.getQueryData<Stack>(key);
      if (Array.isArray(what) && before) queries.setQueryData<Stack>(key, meanwhile(before, what));
      return before;
    },
    onSuccess: (answer) => queries.setQueryData<Stack>(key, answer),
    onError: (_, __, before) => {
      if (before) queries.setQueryData<Stack>(key, before);
      queries.invalidateQueries({ queryKey: key });
    },
  });
  const last = useMutationState({ filters: { mutationKey: key }, select: ({ state }) => state }).at(-1);
  const held = stack.data ?? NOTHING;
  return useMemo(() => {
    const { entries, ...told } = held;
    const all = (entries ?? []) as unknown as AnyEntry[];
    return {
      ...told,
      all,
      patches: all.filter((one): one is PatchEntry => one.kind === "patch"),
      keepOuts: all.filter((one): one is KeepOutEntry => one.kind === "keep_out"),
      change: change.mutate,
      isLoading: stack.isLoading,
      refused: (last?.status === "error" ? (last.error as Error) : stack.error)?.message ?? null,
    };
  }, [held, stack.isLoading, stack.error, change.mutate, last]);
}

/** Where a patch or keep-out was drawn. */
export const placesOf = ({ ring, line }: Pick<PatchContent, "ring" | "line">): Line => (ring ?? line ?? []) as Line;
