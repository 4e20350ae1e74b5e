import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { call, type Facets } from "../api/client";
import { KEYS } from "../api/keys";
import { useDesk } from "../desk/store";

type Edge = [number, number, number, number];

/** The facets of the preview, or of A, in the view; null while none are wanted. */
export function useFacetsInView(projectId: number, on: boolean): Facets | null {
  const key = useDesk((desk) => desk.preview?.key ?? desk.slots.a);
  const bounds = useDesk((desk) => desk.bounds);
  const { data } = useQuery({
    queryKey: KEYS.facets(projectId, key, bounds),
    queryFn: ({ signal }) => {
      const [west, south, east, north] = bounds as Edge;
      const query = `west=${west}&south=${south}&east=${east}&north=${north}`;
      return call<Facets>("GET", `/projects/${projectId}/facets/${key}?${query}`, undefined, signal);
    },
    enabled: on && key !== null && bounds !== null,
    placeholderData: keepPreviousData,
    gcTime: 30_000,
  });
  return on ? (data ?? null) : null;
}
