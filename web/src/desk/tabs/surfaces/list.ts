import type { Holding } from "../../../api/client";
import { accuracyOf, type Source, sourcesOf } from "../../products";

export const KINDS = { all: "all kinds", stored: "stored", live: "live", folded: "folded away" };
export const ORDERS = {
  newest: "newest first",
  name: "by name",
  finest: "finest first",
  exact: "most exact first",
};
export type SurfaceKind = keyof typeof KINDS;
export type SurfaceOrder = keyof typeof ORDERS;

interface Asked {
  text: string;
  kind: SurfaceKind;
  order: SurfaceOrder;
  /** Those that somebody folded away. */
  folded: number[];
  /** What is looked at stands there whatever was folded away. */
  looked: (string | null)[];
}

/** Whether every word is part of a name. */
export function isNamed(name: string, text: string): boolean {
  const low = name.toLowerCase();
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => low.includes(word));
}

const cellOf = ({ holdings }: Source) => holdings[0]?.surface?.cell_size ?? Infinity;
const errorOf = (source: Source) => accuracyOf(source)?.rmse ?? Infinity;

/** How sources follow each other; those of which nothing is known come last, and what is equal stays as it was. */
const COMPARED: Record<SurfaceOrder, ((one: Source, other: Source) => number) | null> = {
  newest: null,
  name: (one, other) => one.name.localeCompare(other.name, "en", { numeric: true }),
  finest: (one, other) => cellOf(one) - cellOf(other) || 0,
  exact: (one, other) => {
    const [first, second] = [errorOf(one), errorOf(other)];
    return first === second ? 0 : first - second;
  },
};

/** Surfaces as the strip shows them: those that are asked for, the tiles of one product together, in their order. */
export function listed(surfaces: Holding[], { text, kind, order, folded, looked }: Asked): Source[] {
  const away = new Set(folded);
  // an original whose fault was fixed stands behind what is right
  const isAway = (one: Holding) => !looked.includes(one.key) && (Boolean(one.fixed_by) || away.has(one.id));
  const wanted = surfaces.filter(
    (one) =>
      isNamed(one.name, text) &&
      isAway(one) === (kind === "folded") &&
      (kind === "all" || kind === "folded" || one.live === (kind === "live")),
  );
  const sources = sourcesOf(wanted);
  const compare = COMPARED[order];
  return compare ? sources.sort(compare) : sources;
}

/** How many surfaces are folded away. */
export const foldedOf = (surfaces: Holding[], asked: Pick<Asked, "folded" | "looked">): number =>
  listed(surfaces, { ...asked, text: "", kind: "folded", order: "newest" }).flatMap(({ holdings }) => holdings).length;
