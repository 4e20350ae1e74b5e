import type { ScorecardMoved } from "../api/client";
import { useDesk } from "../desk/store";

/** What takes it back, to a millimetre, and without a minus before 0. */
export const opposite = (value: number) => -Math.round(value * 1000) / 1000 + 0;

/** Opens the worksheet that moves a surface, with what takes a shift back. */
export function useMoveAway() {
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  return (surface: number, found: Partial<Pick<ScorecardMoved, "east" | "north" | "up">>) => {
    sheet("move", {
      inputs: { surface },
      params: { east: opposite(found.east ?? 0), north: opposite(found.north ?? 0), up: opposite(found.up ?? 0) },
      name: "",
    });
    open("Judge", "move");
  };
}
