import { useMutation, useMutationState, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Draft, type Holding } from "../api/client";
import { KEYS } from "../api/keys";
import type { Collection, Drawn } from "../map/shapes";
import { useProject } from "./context";

/** A draft as the desk keeps it: the list of edits, and what differs from the untouched features. */
export interface DraftState {
  titles: string[];
  done: number;
  said: string[];
  gone: Set<number>;
  changed: Map<number, Drawn>;
}

const EMPTY: DraftState = { titles: [], done: 0, said: [], gone: new Set(), changed: new Map() };

/** What an answer of the service makes of a draft. */
export function merged(before: DraftState, { titles, done, said, gone, changed }: Draft): DraftState {
  const made = { titles, done, said, gone: new Set(before.gone), changed: new Map(before.changed) };
  for (const number of gone) {
    made.gone.add(number);
    made.changed.delete(number);
  }
  for (const one of (changed as unknown as Collection).features) {
    made.gone.delete(one.id);
    made.changed.set(one.id, one);
  }
  return made;
}

/** The features as they are after the edits. */
export function edited(untouched: Collection, { gone, changed }: DraftState): Collection {
  const kept = untouched.features.filter(({ id }) => !gone.has(id) && !changed.has(id));
  return { ...untouched, features: [...kept, ...changed.values()].sort((one, other) => one.id - other.id) };
}

/** The features of a holding on the map, untouched. */
export function useFeatures(holding: Holding | undefined) {
  const project = useProject();
  return useQuery({
    queryKey: KEYS.drawn(project.id, holding?.id, project.frame.grid.crs),
    queryFn: () => call<Collection>("GET", `/projects/${project.id}/holdings/${holding?.id}/features`),
    staleTime: Infinity,
    enabled: holding?.kind === "features",
  });
}

export type EditRequest = { edit: Record<string, unknown>; snap?: number } | "undo" | "redo" | "drop";

/** The person's draft of a holding's features, and the way to change it. */
export function useDraft(holding: Holding | undefined) {
  const project = useProject();
  const queries = useQueryClient();
  const key = KEYS.edits(project.id, holding?.id);
  const path = `/projects/${project.id}/holdings/${holding?.id}/edits`;
  const untouched = useFeatures(holding);
  const draft = useQuery({
    queryKey: key,
    queryFn: async () => merged(EMPTY, await call<Draft>("GET", path)),
    staleTime: Infinity,
    enabled: holding?.kind === "features",
  });
  const change = useMutation({
    mutationKey: key,
    scope: { id: `edits-${holding?.id}` }, // one after the other, in the order they were made
    mutationFn: async (what: EditRequest) => {
      if (what === "drop") return call<undefined>("DELETE", path);
      if (typeof what === "string") return call<Draft>("POST", `${path}/${what}`);
      return call<Draft>("POST", path, what);
    },
    onSuccess: (answer) =>
      queries.setQueryData<DraftState>(key, (before) => (answer ? merged(before ?? EMPTY, answer) : EMPTY)),
  });
  const collection = useMemo(
    () => (untouched.data && draft.data ? edited(untouched.data, draft.data) : undefined),
    [untouched.data, draft.data],
  );
  // edits come from the worksheet and from the map; what became of the last one is told once, for both
  const last = useMutationState({ filters: { mutationKey: key }, select: ({ state }) => state }).at(-1);
  const refused = last?.status === "error" ? (last.error as Error) : null;
  return { draft: draft.data ?? EMPTY, collection, change, refused, error: untouched.error ?? draft.error };
}
