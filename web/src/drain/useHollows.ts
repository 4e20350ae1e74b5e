import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, type Drained, type Hollow, type Hollows, type SaidOfHollow } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { useWorkedOut } from "./useWorkedOut";

const TOLD = [KEYS.hollows];

/** How many are told at once. */
export const PAGE = 40;

/** What somebody said hollows are, and a way to say it. */
export function useSaid() {
  const project = useProject();
  const client = useQueryClient();
  const path = `/projects/${project.id}/drainage/hollows/said`;
  const key = KEYS.hollowsSaid(project.id, project.frame.mark);
  const { data, error } = useQuery({
    queryKey: key,
    queryFn: ({ signal }) => call<SaidOfHollow[]>("GET", path, undefined, signal),
  });
  const say = useMutation({
    mutationFn: (said: { x: number; y: number; kind: Hollow["kind"] | null }) =>
      call<SaidOfHollow[]>("PUT", path, said),
    onSuccess: (answer) => {
      client.setQueryData(key, answer);
      client.invalidateQueries({ queryKey: KEYS.hollows(project.id) });
    },
  });
  return { said: data, say: say.mutate, refused: say.error?.message ?? error?.message };
}

/** The hollows of a surface, what holds most first. They are found by a job, once for each surface. */
export function useHollows(drained: Drained | null, kind: Hollow["kind"] | "", first: number) {
  const project = useProject();
  const base = `/projects/${project.id}/drainage/hollows`;
  // what becomes of them changes nothing about what they are
  const of = drained && { surface: drained.surface, kept: drained.kept, sea: drained.sea, burned: drained.burned };
  const beds =
    drained?.burned != null
      ? { bed_width: drained.bed_width, bed_depth: drained.bed_depth, bed_bank: drained.bed_bank }
      : {};
  const asked = of && { ...of, ...beds };
  // outlines without the steps of single cells
  const body = asked && { ...asked, kind, first, count: PAGE, pixel: project.frame.cell_size };
  const list = useQuery({
    queryKey: KEYS.hollows(project.id, project.frame.mark, body),
    queryFn: ({ signal }) => call<Hollows>("POST", `${base}/list`, body, signal),
    enabled: body !== null,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const work = useWorkedOut(base, asked, list.data?.known === false && !list.isPlaceholderData, TOLD);
  return {
    ...work,
    list: list.data?.known ? list.data : undefined,
    failed: list.error?.message ?? work.failed,
  };
}
