import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { call, type FeaturesHolding, type Suspects } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { useMended, useMendedStack } from "./useMended";

/** How many are told at once. */
export const PAGE = 24;

export interface SuspectsAsked {
  /** Where they are looked for: in the view, or among those that a run found on every cell. */
  found: number | null;
  waters: number | null;
  kind: string;
  first: number;
}

/** Runs that found the suspects of the surface on every cell, newest first. */
export function useFoundOnAll(): FeaturesHolding[] {
  const { features } = useHeld();
  const surface = useMended();
  return features.filter(
    ({ recipe }) => recipe?.operation === "suspects" && [recipe.input_ids.surface].flat().includes(surface?.id ?? 0),
  );
}

/** What is probably wrong with the surface as it is now, worst first. */
export function useSuspects({ found, waters, kind, first }: SuspectsAsked) {
  const project = useProject();
  const surface = useMended();
  const { a } = useHeld();
  const { version } = useMendedStack();
  const bounds = useDesk((desk) => desk.bounds);
  const key = a && a.id === surface?.id ? a.key : (surface?.key ?? "");
  const body = { key, bounds: found === null ? bounds : null, found, waters, kind, first, count: PAGE };
  return useQuery({
    // what people have said is real, or have repaired, is in no key of a surface
    queryKey: KEYS.suspects(project.id, surface?.id, body, version),
    queryFn: ({ signal }) =>
      call<Suspects>("POST", `/projects/${project.id}/holdings/${surface?.id}/suspects`, body, signal),
    enabled: surface !== undefined && (found !== null || bounds !== null),
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    gcTime: 60_000,
    retry: false,
  });
}
