import type { Holding } from "../api/client";
import { INKS, SLOT_INKS } from "../map/dress";
import { quantityOf, useHeld } from "./context";
import { useDesk } from "./store";

/** How many are looked at beside each other. */
export const MOST_COMPARED = 6;

export interface Compared {
  holding: Holding;
  ink: string;
  /** A or B where it is in a slot. */
  letter: string;
  /** Leaves it out; null for what is in a slot. */
  leave: (() => void) | null;
}

/** The surfaces of heights that are compared: A, B and those that were added, each in its colour; and which others there are. */
export function useCompared() {
  const { surfaces, a, b } = useHeld();
  const also = useDesk((desk) => desk.also);
  const set = useDesk((desk) => desk.set);
  const usable = surfaces.filter((one) => quantityOf(one) === "height");
  const shown = [a, b, ...also.map((key) => usable.find((one) => one.key === key))]
    .filter((one) => one !== undefined)
    .filter((one, i, all) => quantityOf(one) === "height" && all.findIndex(({ id }) => id === one.id) === i)
    .slice(0, MOST_COMPARED)
    .map((holding, i): Compared => {
      const letter = holding === a ? "A" : holding === b ? "B" : "";
      const ink = letter === "A" ? SLOT_INKS.a : letter === "B" ? SLOT_INKS.b : (INKS[(i + 1) % INKS.length] as string);
      return {
        holding,
        ink,
        letter,
        leave: letter ? null : () => set({ also: also.filter((one) => one !== holding.key) }),
      };
    });
  const taken = new Set(shown.map(({ holding }) => holding.id));
  return {
    shown,
    /** Those that can be added; none where there is no room. */
    others: shown.length < MOST_COMPARED ? usable.filter((one) => !taken.has(one.id)) : [],
    add: (key: string) => set({ also: [...also, key] }),
  };
}
