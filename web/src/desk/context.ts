import { createContext, useContext, useMemo } from "react";
import type { Holding, Project, Quantity } from "../api/client";
import { useHoldings } from "../api/queries";
import QUANTITIES from "../map/quantities.json";
import { shortUnit } from "./format";
import { useDesk } from "./store";

const ProjectContext = createContext<Project | null>(null);
export const ProjectProvider = ProjectContext.Provider;

/** The open project. */
export function useProject(): Project {
  const project = useContext(ProjectContext);
  if (!project) throw new Error("no project is open here");
  return project;
}

const isOf =
  <K extends Holding["kind"]>(kind: K) =>
  (holding: Holding): holding is Extract<Holding, { kind: K }> =>
    holding.kind === kind;

export const quantityOf = (holding: Holding | undefined): Quantity =>
  (holding?.surface?.quantity ?? "height") as Quantity;

/** The holdings of the open project, by kind, and what is in the slots. */
export function useHeld() {
  const project = useProject();
  const { data, isLoading } = useHoldings(project.id);
  const slots = useDesk((desk) => desk.slots);
  const inPlace = useDesk((desk) => desk.inPlace);
  return useMemo(() => {
    const all = data ?? [];
    const byKey = (key: string | null) => all.filter(isOf("surface")).find((holding) => holding.key === key);
    const inA = byKey(slots.a);
    const a =
      inA && inPlace?.of === inA.key
        ? { ...inA, key: inPlace.key, name: inPlace.name, live: true, lookedAt: inPlace.key }
        : inA;
    return {
      all,
      isLoading,
      surfaces: all.filter(isOf("surface")),
      points: all.filter(isOf("points")),
      features: all.filter(isOf("features")),
      images: all.filter(isOf("image")),
      pictures: all.filter(isOf("picture")),
      clouds: all.filter(isOf("cloud")),
      tables: all.filter(isOf("table")),
      a,
      b: byKey(slots.b),
    };
  }, [data, isLoading, slots, inPlace]);
}

/** What an operation takes of a holding: its number, or the key of what is only looked at in its place. */
export const inputOf = (one: Holding): number | string => one.lookedAt ?? one.id;

/** What stands behind a value of a quantity. */
export const unitOf = (quantity: Quantity, heightUnit: string): string =>
  QUANTITIES[quantity].unit ?? shortUnit(heightUnit);
