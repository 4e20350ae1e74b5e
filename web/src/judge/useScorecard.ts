import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef } from "react";
import { call, type Job, type Scorecard, type ScorecardAsked, type ScorecardPlaces } from "../api/client";
import { KEYS } from "../api/keys";
import { isOpen, useJobs } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { type Sheet, useDesk } from "../desk/store";
import { useJudgeState } from "./state";

const FRESH: Sheet = { inputs: {}, params: {}, name: "" };

const numbers = (given: number | number[] | undefined): number[] =>
  given === undefined ? [] : Array.isArray(given) ? given : [given];

/** What is judged against what, as the worksheet has it: all surfaces of heights where nobody has chosen, at the project's checkpoints. */
export function useAsked(): ScorecardAsked | null {
  const project = useProject();
  const { surfaces, points } = useHeld();
  const sheet = useDesk((desk) => desk.sheets.scorecard) ?? FRESH;
  const { removed, onto, byArea, even } = useJudgeState();
  return useMemo(() => {
    const { inputs, params } = sheet;
    const heights = surfaces.filter((one) => one.surface.quantity === "height").map((one) => one.id);
    const chosen = numbers(inputs.surfaces).filter((id) => heights.includes(id));
    const judged = inputs.surfaces === undefined ? heights : chosen;
    const [reference] = numbers(inputs.reference);
    const held = points.map((one) => one.id);
    const at = numbers(inputs.checkpoints)[0] ?? project.checkpoints_id ?? undefined;
    const against = reference !== undefined && heights.includes(reference) ? reference : undefined;
    if (!judged.length || (against === undefined && (at === undefined || !held.includes(at)))) return null;
    return {
      surfaces: judged.filter((id) => id !== against),
      points: against === undefined ? (at ?? null) : null,
      reference: against ?? null,
      removed,
      onto: removed ? onto : null,
      split: (params.split as ScorecardAsked["split"]) ?? "cover",
      second: (params.second as ScorecardAsked["second"]) ?? "none",
      polygons: numbers(inputs.polygons)[0] ?? null,
      column: (params.column as string) ?? "",
      data: numbers(inputs.data),
      shared: (params.shared as boolean) ?? false,
      by_area: byArea,
      even,
    };
  }, [sheet, surfaces, points, project.checkpoints_id, removed, onto, byArea, even]);
}

/** The scorecard, as far as its surfaces are judged. */
export function useScorecard() {
  const project = useProject();
  const asked = useAsked();
  const query = useQuery({
    queryKey: KEYS.scorecard(project.id, project.frame.mark, asked),
    queryFn: ({ signal }) => call<Scorecard>("POST", `/projects/${project.id}/scorecard`, asked, signal),
    enabled: asked !== null && asked.surfaces.length > 0,
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    retry: false,
  });
  return { asked, card: query.error ? undefined : query.data, error: query.error, stale: query.isPlaceholderData };
}

/** Has surfaces judged that are not yet, once for each scorecard that is asked for. What became of it: a job, or why there is none. */
export function useJudging() {
  const project = useProject();
  const { asked, card, stale } = useScorecard();
  const { data: jobs = [] } = useJobs(project.id);
  const client = useQueryClient();
  const judge = useMutation({
    mutationFn: () => call<{ job: Job | null }>("POST", `/projects/${project.id}/scorecard/judge`, asked),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const { mutate } = judge;
  const against = asked && JSON.stringify([asked.points, asked.reference, asked.removed, asked.onto]);
  const wanted = !stale && (card?.waiting.length ?? 0) > 0 && project.role !== "viewer";
  const before = useRef<string | null>(null);
  // shifts are taken off once it is known which surface is the best as delivered
  const signature = asked && JSON.stringify([against, asked.surfaces, card?.onto]);
  useEffect(() => {
    if (!wanted || before.current === signature) return;
    before.current = signature;
    mutate();
  }, [wanted, signature, mutate]);
  const job = jobs.find((one) => one.id === judge.data?.job?.id);
  const state = job?.state;
  const progress = job?.progress;
  // each surface that is judged is shown at once
  // biome-ignore lint/correctness/useExhaustiveDependencies: how far the job is, is the point
  useEffect(() => {
    if (state) client.invalidateQueries({ queryKey: KEYS.scorecard(project.id) });
  }, [state, progress, project.id, client]);
  return {
    running: judge.isPending || (job !== undefined && isOpen(job)),
    failed: judge.error?.message ?? (state === "failed" || state === "cancelled" ? job?.message : undefined),
    again: () => mutate(),
  };
}

/** The places of the part that is pressed, worst first. */
export function usePressedPlaces() {
  const project = useProject();
  const asked = useAsked();
  const pressed = useJudgeState((judge) => judge.pressed);
  const there = asked !== null && pressed !== null && asked.surfaces.includes(pressed.surface);
  const body = there && {
    ...asked,
    surface: pressed.surface,
    part: pressed.part,
    second_part: pressed.second,
    outliers: pressed.outliers,
  };
  const { data } = useQuery({
    queryKey: KEYS.scorecardPlaces(project.id, project.frame.mark, body),
    queryFn: ({ signal }) => call<ScorecardPlaces>("POST", `/projects/${project.id}/scorecard/places`, body, signal),
    enabled: there,
    staleTime: 60_000,
    retry: false,
  });
  return there ? data : undefined;
}
