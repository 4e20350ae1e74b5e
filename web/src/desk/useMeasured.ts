import { useQuery } from "@tanstack/react-query";
import { call } from "../api/client";
import { isOpen, type RunBody, useJobs, useStart } from "../api/queries";
import { useProject } from "./context";
import { useDesk } from "./store";

/** Figures of an operation on every cell, as a job that is started by hand and looked up again as long as it is asked alike. */
export function useMeasured<Figures>(body: RunBody, name: string) {
  const project = useProject();
  const signature = JSON.stringify(body);
  const start = useStart(project.id);
  const begun = useDesk((desk) => desk.measuring[signature]);
  const set = useDesk((desk) => desk.set);
  const { data: jobs = [] } = useJobs(project.id);
  const job = jobs.find((one) => one.id === begun);
  const { data: exact } = useQuery({
    queryKey: ["figures-of", project.id, job?.id],
    queryFn: () => call<Figures>("GET", `/projects/${project.id}/jobs/${job?.id}/figures`),
    enabled: job?.state === "done",
    staleTime: Infinity,
  });
  const keep = (id: string) => set({ measuring: { ...useDesk.getState().measuring, [signature]: id } });
  return {
    exact: job ? exact : undefined,
    measure: {
      start: () =>
        start.mutate(
          { path: "/runs", body: { ...body, name } },
          { onSuccess: ({ job: made }) => made && keep(made.id) },
        ),
      running: start.isPending || (job !== undefined && isOpen(job)),
      progress: job?.progress ?? 0,
      failed: start.error?.message ?? (job?.state === "failed" ? job.message : null),
    },
  };
}
