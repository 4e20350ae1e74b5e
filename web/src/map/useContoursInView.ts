import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ContourLine, call } from "../api/client";
import { KEYS } from "../api/keys";
import type { RunBody } from "../api/queries";
import { useDesk } from "../desk/store";

/** The contours that a worksheet asks for, in the view. */
export function useContoursInView(projectId: number, run: RunBody | null) {
  const bounds = useDesk((desk) => desk.bounds);
  const { data, error, isFetching } = useQuery({
    queryKey: KEYS.contours(projectId, run, bounds),
    queryFn: ({ signal }) => call<ContourLine[]>("POST", `/projects/${projectId}/lines`, { run, bounds }, signal),
    enabled: run !== null && bounds !== null,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
    retry: false,
  });
  return { lines: run && !error ? data : undefined, failed: error?.message ?? null, waiting: isFetching };
}
