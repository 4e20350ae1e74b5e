import { useQuery } from "@tanstack/react-query";
import { call, type Table } from "../api/client";
import { KEYS } from "../api/keys";
import { useJobs } from "../api/queries";
import { useProject } from "../desk/context";
import type { AnyWork } from "./useWorksheet";

/** The facts of the table that a worksheet's last run made; nothing until it is there. */
export function useFacts<Facts>(work: Pick<AnyWork, "made">): Facts | undefined {
  const project = useProject();
  const { data: jobs = [] } = useJobs(project.id);
  const job = jobs.find((one) => one.id === work.made?.job?.id) ?? work.made?.job;
  const held = work.made?.holding_id ?? (job?.state === "done" ? job.holding_id : null);
  const { data } = useQuery({
    queryKey: KEYS.table(project.id, held),
    queryFn: () => call<Table>("GET", `/projects/${project.id}/holdings/${held}/table`),
    enabled: held != null,
    staleTime: Infinity,
    select: (table) => table.facts as unknown as Facts,
  });
  return data;
}
