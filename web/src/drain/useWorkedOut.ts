import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { call, type Job } from "../api/client";
import { KEYS } from "../api/keys";
import { isOpen, useJobs } from "../api/queries";
import { useProject } from "../desk/context";

type Key = (project: number) => readonly unknown[];

/**
 * Has something worked out by a job, once for whatever is asked. waits: whether it is not known yet. refresh: the keys of what is
 * told of it, which must stay the same array.
 */
export function useWorkedOut(path: string, asked: unknown, waits: boolean, refresh: readonly Key[]) {
  const project = useProject();
  const client = useQueryClient();
  const work = useMutation({
    mutationFn: (body: unknown) => call<{ job: Job | null }>("POST", path, body),
    onSettled: () => {
      for (const key of [KEYS.jobs, ...refresh]) client.invalidateQueries({ queryKey: key(project.id) });
    },
  });
  const { mutate } = work;
  const signature = JSON.stringify(asked);
  const before = useRef("");
  useEffect(() => {
    if (!waits || project.role === "viewer" || before.current === signature) return;
    before.current = signature;
    mutate(JSON.parse(signature));
  }, [waits, signature, project.role, mutate]);
  const { data: jobs = [] } = useJobs(project.id);
  const job = jobs.find((one) => one.id === work.data?.job?.id);
  const state = job?.state;
  useEffect(() => {
    if (state !== "done") return;
    for (const key of refresh) client.invalidateQueries({ queryKey: key(project.id) });
  }, [state, project.id, client, refresh]);
  return {
    again: () => asked != null && mutate(asked),
    running: work.isPending || (job !== undefined && isOpen(job)),
    progress: job?.progress ?? 0,
    failed:
      work.error?.message ??
      (state === "failed" || state === "cancelled" ? job?.message || "It was stopped." : undefined),
  };
}
