import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { type Brief, type BriefAnswers, call, type Job } from "../api/client";
import { KEYS } from "../api/keys";
import { isOpen, useJobs } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import type { Settings } from "./demands";

const NOTHING: Brief["demands"] = [];

/** What is asked of the surfaces of the project, and a way to ask for something else. */
export function useBrief() {
  const project = useProject();
  const client = useQueryClient();
  const queryKey = KEYS.brief(project.id);
  const path = `/projects/${project.id}/brief`;
  const { data, error } = useQuery({ queryKey, queryFn: () => call<Brief>("GET", path) });
  const change = useMutation({
    mutationFn: (to: { demands: Settings[]; vegetated: string[] }) =>
      call<Brief>("PUT", path, { ...to, version: data?.version ?? 0 }),
    onSuccess: (brief) => client.setQueryData(queryKey, brief),
    // who changed it meanwhile is seen at once
    onError: () => client.invalidateQueries({ queryKey }),
  });
  return { brief: data, demands: data?.demands ?? NOTHING, error, change };
}

/** What the surface in A says to the brief. Its cells are read by a job, once for each version of the brief. */
export function useAnswers() {
  const project = useProject();
  const { a } = useHeld();
  const { brief } = useBrief();
  const client = useQueryClient();
  const judged = a && a.surface.quantity === "height" && !a.lookedAt ? a : undefined;
  const asked = judged !== undefined && (brief?.demands.length ?? 0) > 0;
  const path = `/projects/${project.id}/brief/${judged?.id}`;
  const { data, error } = useQuery({
    queryKey: KEYS.briefAnswers(project.id, judged?.key, brief?.version, project.checkpoints_id, project.frame.mark),
    queryFn: () => call<BriefAnswers>("GET", path),
    enabled: asked,
    retry: false,
  });
  const { data: jobs = [] } = useJobs(project.id);
  const work = useMutation({
    mutationFn: () => call<{ job: Job | null }>("POST", path),
    onSettled: () => {
      client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      client.invalidateQueries({ queryKey: KEYS.briefAnswers(project.id) });
    },
  });
  const { mutate } = work;
  const waits = data?.answers.some((one) => one === null) ?? false;
  const signature = `${judged?.key} ${data?.version} ${project.checkpoints_id}`;
  const before = useRef("");
  useEffect(() => {
    if (!waits || project.role === "viewer" || before.current === signature) return;
    before.current = signature;
    mutate();
  }, [waits, project.role, signature, mutate]);
  const job = jobs.find((one) => one.id === work.data?.job?.id);
  const state = job?.state;
  // each answer is shown as it is found
  const progress = job?.progress;
  // biome-ignore lint/correctness/useExhaustiveDependencies: how far the job is, is the point
  useEffect(() => {
    if (state) client.invalidateQueries({ queryKey: KEYS.briefAnswers(project.id) });
  }, [state, progress, project.id, client]);
  return {
    judged,
    answers: asked ? data : undefined,
    running: work.isPending || (job !== undefined && isOpen(job)),
    failed:
      error?.message ??
      work.error?.message ??
      (state === "failed" || state === "cancelled" ? job?.message || "Stopped." : undefined),
    again: () => mutate(),
  };
}
