import { useQuery } from "@tanstack/react-query";
import { call, type Table } from "../api/client";
import { KEYS } from "../api/keys";
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
  const held = typeof begun === "number" ? begun : job?.state === "done" ? job.holding_id : null;
  const { data: exact } = useQuery({
    queryKey: KEYS.table(project.id, held),
    queryFn: () => call<Table>("GET", `/projects/${project.id}/holdings/${held}/table`),
    enabled: held != null,
    staleTime: Infinity,
    select: (table) => table.facts as Figures,
  });
  const keep = (id: string | number) => set({ measuring: { ...useDesk.getState().measuring, [signature]: id } });
  return {
    exact: held != null ? exact : undefined,
    measure: {
      start: () =>
        start.mutate(
          { path: "/runs", body: { ...body, name } },
          { onSuccess: ({ job: made, holding_id }) => keep(made?.id ?? holding_id ?? "") },
        ),
      running: start.isPending || (job !== undefined && isOpen(job)),
      progress: job?.progress ?? 0,
      failed: start.error?.message ?? (job?.state === "failed" ? job.message : null),
    },
  };
}
