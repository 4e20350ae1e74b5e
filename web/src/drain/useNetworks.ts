import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, type KeptNetwork, type Network, type NetworkFigures } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { useDrainState } from "./state";
import { drainedOf } from "./useDrained";
import { useReference } from "./useReference";
import { markOf } from "./words";

const OFTEN = 2_000; // milliseconds between two looks at what is worked out

/** The networks that are kept, and ways to keep one more, to remove one, and to have water worked out for one. */
export function useKept() {
  const project = useProject();
  const client = useQueryClient();
  const base = `/projects/${project.id}/drainage`;
  const refresh = () => client.invalidateQueries({ queryKey: KEYS.networks(project.id) });
  const { data = [], error } = useQuery({
    queryKey: KEYS.networks(project.id),
    queryFn: ({ signal }) => call<KeptNetwork[]>("GET", `${base}/networks`, undefined, signal),
  });
  const keep = useMutation({
    mutationFn: (content: Network & { against: Against }) => call<KeptNetwork>("POST", `${base}/networks`, content),
    onSuccess: refresh,
  });
  const remove = useMutation({
    mutationFn: (id: number) => call<void>("DELETE", `${base}/networks/${id}`),
    onSuccess: refresh,
  });
  const work = useMutation({
    mutationFn: (content: Network) => call("POST", base, drainedOf(content)),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  return {
    kept: data,
    keep: keep.mutate,
    remove: remove.mutate,
    work: work.mutate,
    refused: keep.error?.message ?? remove.error?.message ?? work.error?.message ?? error?.message,
  };
}

/** What networks are held against: the known rivers that are chosen, and the first outlet, whose catchment is told. */
export function useAgainst() {
  const { outlets, snap, within } = useDrainState();
  const { known } = useReference();
  return { reference: known, within, outlet: outlets[0] ?? null, snap };
}
export type Against = ReturnType<typeof useAgainst>;

/** Figures of networks. */
export function useFigures(contents: Network[], { reference, within, outlet, snap }: Against) {
  const project = useProject();
  return useQueries({
    queries: contents.map((content) => {
      const body = { ...content, reference, within, outlet, snap };
      return {
        queryKey: KEYS.figures(project.id, project.frame.mark, markOf(content), reference, within, outlet, snap),
        queryFn: ({ signal }: { signal: AbortSignal }) =>
          call<NetworkFigures>("POST", `/projects/${project.id}/drainage/figures`, body, signal),
        retry: false,
        staleTime: 60_000,
        // somebody may be working it out
        refetchInterval: (query: { state: { data?: NetworkFigures } }) =>
          query.state.data?.known === false ? OFTEN : (false as const),
      };
    }),
  });
}
