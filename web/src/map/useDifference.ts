import type { Holding } from "../api/client";
import { usePreview } from "../api/queries";
import { inputOf, useProject } from "../desk/context";

/** The live difference A − B, as the service computes it for this view and for anybody who stores it. */
export function useDifference(a: Holding | undefined, b: Holding | undefined, wanted: boolean) {
  const project = useProject();
  const body =
    wanted && a && b
      ? { operation: "difference", params: {}, inputs: { first: inputOf(a), second: inputOf(b) } }
      : null;
  const { data, error } = usePreview(project.id, body);
  return { key: body ? (data?.key ?? null) : null, findings: body ? (data?.findings ?? []) : [], error };
}
