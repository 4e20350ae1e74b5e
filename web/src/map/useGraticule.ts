import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { call, type GraticuleLine } from "../api/client";
import { KEYS } from "../api/keys";
import { useOverlay } from "../desk/overlays";
import { useDesk } from "../desk/store";

/** What lines of equal coordinates the map bears. */
export const GRATICULES = {
  none: "none",
  coordinates: "east and north of the frame",
  degrees: "longitude and latitude",
};
export type Graticule = keyof typeof GRATICULES;

/** Draws the chosen lines of equal coordinates over the map. */
export function useGraticule(projectId: number): void {
  const kind = useDesk((desk) => desk.graticule);
  const bounds = useDesk((desk) => desk.bounds);
  const { data, error } = useQuery({
    queryKey: KEYS.graticule(projectId, kind, bounds),
    queryFn: ({ signal }) => {
      const [west, south, east, north] = (bounds ?? []).map(String) as [string, string, string, string];
      const query = new URLSearchParams({ kind, west, south, east, north });
      return call<GraticuleLine[]>("GET", `/projects/${projectId}/graticule?${query}`, undefined, signal);
    },
    enabled: kind !== "none" && bounds !== null,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
    retry: false,
  });
  // a view beyond where the CRS holds has no such lines
  useOverlay("graticule", kind === "none" || error ? null : (data ?? null));
}
