import { useEffect } from "react";
import type { Holding } from "../api/client";
import { quantityOf, useHeld } from "../desk/context";
import type { WorksheetState } from "./useWorksheet";

/**
 * The surface of heights a worksheet works on, among those it could: the one in A where none was chosen, else what
 * `likely` says, else the newest. What comes out of such a worksheet counts as heights, so only heights go in.
 */
export function useChosenHeights(work: WorksheetState, likely: (one: Holding) => boolean = () => false) {
  const { surfaces, a } = useHeld();
  const { setInput } = work;
  const usable = surfaces.filter((one) => quantityOf(one) === "height");
  const chosen = usable.find((one) => one.id === work.inputs.surface);
  const first = usable.find((one) => one.id === a?.id) ?? usable.find(likely) ?? usable[0];
  useEffect(() => {
    if (!chosen && first) setInput("surface", first.id);
  }, [chosen, first, setInput]);
  return { usable, chosen };
}
