import { createContext, useContext, useMemo } from "react";
import type { Holding, Project, Quantity } from "../api/client";
import { useHoldings } from "../api/queries";
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

export const quantityOf = (holding: Holding | undefined): Quantity =>
  (holding?.surface?.quantity ?? "height") as Quantity;

/** The holdings of the open project, by kind, and what is in the slots. */
export function useHeld() {
  const project = useProject();
  const { data, isLoading } = useHoldings(project.id);
  const slots = useDesk((desk) => desk.slots);
  return useMemo(() => {
    const all = data ?? [];
    const byKey = (key: string | null) => all.find((holding) => holding.kind === "surface" && holding.key === key);
    return {
      all,
      isLoading,
      surfaces: all.filter((holding) => holding.kind === "surface"),
      points: all.filter((holding) => holding.kind === "points"),
      features: all.filter((holding) => holding.kind === "features"),
      images: all.filter((holding) => holding.kind === "image"),
      clouds: all.filter((holding) => holding.kind === "cloud"),
      a: byKey(slots.a),
      b: byKey(slots.b),
    };
  }, [data, isLoading, slots]);
}

export const unitOf = (quantity: Quantity, heightUnit: string): string =>
  ({
    height: shortUnit(heightUnit),
    difference: shortUnit(heightUnit),
    slope: "°",
    aspect: "°",
    brightness: "",
    spread: shortUnit(heightUnit),
    count: "",
    intensity: "",
    distance: "m",
    source: "",
    curvature: "1/km",
    openness: "°",
    contrast: "SD",
  })[quantity];
