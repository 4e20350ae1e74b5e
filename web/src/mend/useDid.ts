import { useMemo } from "react";
import { type RunBody, usePreview } from "../api/queries";
import { useProject } from "../desk/context";

/** What a patch did, as the table of them says. */
export interface Did {
  cells: number;
  raised: number;
  lowered: number;
  largest: number;
  problem: string | null;
  remark: string | null;
}

const NOTHING_DONE: Did[] = [];

/** What patches did, in their order. */
export function useDid(body: RunBody | null): Did[] {
  const project = useProject();
  const { data } = usePreview(
    project.id,
    useMemo(() => body && { ...body, output: "patches" }, [body]),
  );
  return useMemo(() => {
    const table = data?.table;
    if (!table) return NOTHING_DONE;
    const found: Did[] = [];
    for (const row of table.rows) {
      const of = Object.fromEntries(table.columns.map(({ name }, i) => [name, row[i]]));
      found[Number(of.number) - 1] = {
        cells: Number(of.cells),
        raised: Number(of.raised),
        lowered: Number(of.lowered),
        largest: Number(of.largest),
        problem: (of.problem as string | null) ?? null,
        remark: (of.remark as string | null) ?? null,
      };
    }
    return found;
  }, [data]);
}
