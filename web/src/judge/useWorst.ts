import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { call, type WorstPlaces } from "../api/client";
import { KEYS } from "../api/keys";
import { quantityOf, useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";
import { has } from "../stages/useRole";
import { useJudgeState } from "./state";

/** How many are told at once. */
export const PAGE = 5;

/** Where A and B differ most, in the view or all over; nothing until both slots hold heights. */
export function useWorst(inView: boolean, first: number) {
  const project = useProject();
  const { a, b, features } = useHeld();
  const bounds = useSettled(
    useDesk((desk) => desk.bounds),
    400,
  );
  // boundaries and lakes have kinds too: only what is called land cover is taken for it, until somebody says
  const chosen = useJudgeState((judge) => judge.cover);
  const covers = features.filter((one) => has(one, "polygons") && "kind" in one.features.attributes);
  const cover = covers.find((one) => (chosen === undefined ? /land.?cover/i.test(one.name) : one.id === chosen));
  const named = features.find((one) => "name" in one.features.attributes && (one.features.counts.points ?? 0) > 0);
  const both = a && b && a.key !== b.key && quantityOf(a) === "height" && quantityOf(b) === "height";
  const body = both
    ? {
        a: a.key,
        b: b.key,
        bounds: inView ? bounds : null,
        cover: cover?.id ?? null,
        column: "kind",
        named: named?.id ?? null,
        first,
        count: PAGE,
      }
    : null;
  return {
    both,
    cover,
    covers,
    ...useQuery({
      queryKey: KEYS.worst(project.id, project.frame.mark, body),
      queryFn: ({ signal }) => call<WorstPlaces>("POST", `/projects/${project.id}/worst-places`, body, signal),
      enabled: body !== null && (!inView || bounds !== null),
      placeholderData: keepPreviousData,
      staleTime: 300_000,
      retry: false,
    }),
  };
}
