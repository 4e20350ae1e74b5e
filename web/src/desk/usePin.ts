import { useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { call, type Probe } from "../api/client";
import { KEYS } from "../api/keys";
import { quantityOf, useHeld, useProject } from "./context";
import { type Pinned, useDesk } from "./store";

/** Pins the reading under the pointer to the readings table. */
export function usePin() {
  const project = useProject();
  const { a, b } = useHeld();
  const queries = useQueryClient();
  return useCallback(async () => {
    const { pointer, preview, previewOn, pinned, set } = useDesk.getState();
    if (!pointer) return;
    const first = previewOn && preview ? preview.key : (a?.key ?? "");
    const query = new URLSearchParams({ x: String(pointer[0]), y: String(pointer[1]), a: first, b: b?.key ?? "" });
    const reading = await queries.fetchQuery({
      queryKey: KEYS.pin(project.id, query.toString()),
      queryFn: () => call<Probe>("GET", `/projects/${project.id}/probe?${query}`),
    });
    const names: Pinned["names"] = {};
    const quantities: Pinned["quantities"] = {};
    const ids: Pinned["ids"] = {};
    if (first) {
      names.a = previewOn && preview ? "preview" : (a?.name ?? "");
      quantities.a = previewOn && preview ? preview.quantity : quantityOf(a);
      // what is only looked at has no steps behind it yet
      if (!(previewOn && preview) && a && !a.lookedAt) ids.a = a.id;
    }
    if (b) {
      names.b = b.name;
      quantities.b = quantityOf(b);
      ids.b = b.id;
    }
    set({ pinned: [...pinned, { ...reading, names, quantities, ids }].slice(-40), tab: "readings" });
  }, [project.id, a, b, queries]);
}
