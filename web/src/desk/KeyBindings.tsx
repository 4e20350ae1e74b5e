import { useEffect } from "react";
import { PROFILE_TOOL } from "../tools/profile";
import { BENCHES } from "./benches";
import { useHeld } from "./context";
import { STAGES, toolOf, useDesk } from "./store";
import { escaped } from "./useEscape";
import { TYPING } from "./useKeys";

/** One-letter keys, never while somebody types. */
export function KeyBindings() {
  const { a, b } = useHeld();
  const both = Boolean(a && b);
  useEffect(() => {
    const down = (event: KeyboardEvent) => {
      const target = event.target as Element | null;
      if (event.ctrlKey || event.metaKey || event.altKey || target?.closest(TYPING)) return;
      const desk = useDesk.getState();
      const comparing = both && BENCHES[desk.bench].compares;
      const mode = (name: typeof desk.mode) => comparing && desk.set({ mode: desk.mode === name ? "alone" : name });
      const stage = STAGES[Number(event.key) - 1];
      if (stage) desk.open(stage);
      else if (event.key === " ") {
        if (target?.closest("button, [role=button], label, [role=slider]") || !comparing) return;
        event.preventDefault();
        if (!event.repeat) desk.set({ blinkHeld: true, blinkB: true });
      } else
        switch (event.key.toLowerCase()) {
          case "a":
          case "b":
            if (desk.hovered) desk.put(event.key.toLowerCase() as "a" | "b", desk.hovered);
            break;
          case "p":
            if (desk.tab === "profile" && toolOf(desk) === PROFILE_TOOL) desk.drop(PROFILE_TOOL.owner);
            else {
              desk.set({ tab: "profile" });
              desk.take(PROFILE_TOOL);
            }
            break;
          case "x":
            desk.swap();
            break;
          case "c":
            mode("curtain");
            break;
          case "m":
            mode("minus");
            break;
          case "t":
            mode("pair");
            break;
          case "s":
            mode("several");
            break;
          case "g":
            desk.set({ bench: desk.bench === "scene" ? "map" : "scene" });
            break;
          case "f":
            desk.set({ goTo: "whole" });
            break;
          case "escape":
            if (desk.keysOpen) desk.set({ keysOpen: false });
            else if (!desk.leave() && !escaped()) desk.open(desk.stage);
            break;
          case "?":
            desk.set({ keysOpen: !desk.keysOpen });
            break;
        }
    };
    const release = () => {
      const desk = useDesk.getState();
      if (desk.blinkHeld) desk.set({ blinkHeld: false, blinkB: false });
    };
    const up = (event: KeyboardEvent) => event.key === " " && release();
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", release);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", release);
    };
  }, [both]);
  return null;
}
