import { useEffect } from "react";
import type { Holding } from "../api/client";
import { OPERATIONS, type Role } from "../api/operations";
import { quantityOf, useHeld, useProject } from "../desk/context";
import type { AnyWork } from "./useWorksheet";

/** Whether features hold that kind of geometry. */
export const has = (one: Holding, kind: "lines" | "polygons"): boolean => (one.features?.counts[kind] ?? 0) > 0;

/** Whether a holding can be what a role takes. */
const suits = (role: Role, one: Holding): boolean =>
  one.kind === role.kind &&
  (role.of.length === 0 || role.of.some((kind) => has(one, kind))) &&
  (role.quantity === null || quantityOf(one) === role.quantity) &&
  (role.column === null || (one.table?.columns.some(({ name }) => name === role.column) ?? false));

export const roleOf = (work: AnyWork, name: string): Role => {
  const role = OPERATIONS[work.operation].inputs[name];
  if (!role) throw new Error(`${work.operation} takes no ${name}`);
  return role;
};

/**
 * The holdings that suit a role, and the chosen one. Where one must be chosen and none is, it is what `likely` says, else what
 * stands in A, or B for a second surface, else the newest; checkpoints are the project's, and are taken for nothing else.
 */
export function useRole(work: AnyWork, name: string, likely?: (one: Holding) => boolean) {
  const project = useProject();
  const { all, a, b } = useHeld();
  const role = roleOf(work, name);
  const usable = all.filter((one) => suits(role, one));
  const [id] = work.ids(name);
  const chosen = usable.find((one) => one.id === id);
  const roles = Object.entries(OPERATIONS[work.operation].inputs).filter(([, one]) => one.kind === role.kind);
  const slot = roles.findIndex(([key]) => key === name) === 0 ? a : b;
  const checks = (one: Holding) => one.id === project.checkpoints_id;
  const first =
    usable.find((one) => (name === "checkpoints" ? checks(one) : role.kind === "surface" && one.id === slot?.id)) ??
    (likely && usable.find(likely)) ??
    usable.find((one) => name === "checkpoints" || !checks(one)) ??
    usable[0];
  const { setInput } = work;
  const wanted = chosen || role.optional || role.many ? undefined : first?.id;
  useEffect(() => {
    if (wanted !== undefined) setInput(name, wanted);
  }, [wanted, name, setInput]);
  return { role, usable, chosen };
}
