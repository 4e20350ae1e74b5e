import type { Holding } from "../api/client";
import { shortUnit } from "../desk/format";

export type CloudBy = "height" | "class" | "intensity" | "return";

/** How lines, polygons or points of one holding are drawn. Empty texts mean the usual. */
export interface Dress {
  colour: string;
  width: number;
  /** Column whose value stands along the line or at the point. */
  label: string;
  unit: string;
  /** Labels stand only where a pixel is smaller than this many metres. */
  labelFrom: number;
  /** Only features whose column has this value: `column=value`. */
  filter: string;
  /** Points are coloured by this; clouds by theirs; lines and areas in one colour or by what stands in a column. */
  by: "one" | "height" | "code" | "column" | CloudBy;
  column: string;
  /** Whether a picture lies over the surfaces or under them, and how much it hides. */
  over: boolean;
  opacity: number;
}

/** The colours of what is A's and what is B's. */
export const SLOT_INKS = { a: "#C2521B", b: "#3C4E9E" };

/** Colours that can be told apart by anyone, none of them A's or B's. */
export const INKS = ["#1F2A30", "#1D4752", "#4A7438", "#7A4E9C", "#8A5A00", "#9C2B2B", "#5E6A70"];

const KIND_COLOURS: Record<string, string> = {
  river: "#1D4752",
  stream: "#1D4752",
  "side channel": "#1D4752",
  water: "#17343D",
};

/** The usual dress of a holding. */
export function usualDress(holding: Holding, judging = false): Dress {
  const columns = Object.keys(holding.features?.attributes ?? {});
  const units = holding.features?.units ?? {};
  const height =
    columns.find((name) => name in units) ?? columns.find((name) => /^(elev|elevation|height|z|level)$/i.test(name));
  const counts = holding.features?.counts ?? {};
  // an area is named where its place is
  const areas = Object.keys(counts).join() === "polygons";
  const name = areas ? undefined : columns.find((column) => /^name$/i.test(column));
  return {
    colour: judging ? "#9C2B2B" : "",
    width: height ? 0.8 : 1.4,
    label: height ?? name ?? (holding.kind === "image" ? "name" : ""),
    unit: height && units[height] ? shortUnit(units[height]) : "",
    labelFrom: height ? 4 : 40,
    filter: "",
    by: holding.kind === "cloud" ? "height" : "one",
    column: "",
    over: true,
    opacity: 0.75,
  };
}

/** The colour of a feature: the one chosen, else that of its kind. */
export function inkOf(dress: Dress, kind: unknown): string {
  return dress.colour || KIND_COLOURS[String(kind ?? "")] || "#1F2A30";
}

/** Whether a feature passes the filter. */
export function passes(filter: string, get: (column: string) => unknown): boolean {
  const at = filter.indexOf("=");
  return at < 1 || String(get(filter.slice(0, at)) ?? "") === filter.slice(at + 1);
}

/** Colours of the standard classes of point clouds; others are grey. */
export const CLASS_COLOURS: Record<number, string> = {
  1: "#8D8779",
  2: "#9A6F45",
  3: "#9DB37A",
  4: "#6E9A56",
  5: "#3F7440",
  6: "#B05A4A",
  7: "#C03A8C",
  9: "#3F7F93",
  17: "#6A5A8C",
  18: "#C03A8C",
};
