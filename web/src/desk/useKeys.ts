import { useEffect, useRef } from "react";

/** Where letters are typed, and mean no more than that. */
export const TYPING =
  "input:not([type=radio]):not([type=checkbox]), textarea, select, [contenteditable], [role=listbox] *";

/** What does something of its own at Enter. */
const PRESSED = "button, a, summary, [role=button], [role=combobox], [role=tab], [role=menuitem]";

/** Keys of a part of the desk, as long as it is there: by what the keyboard calls them, in small letters. */
export function useKeys(keys: Record<string, (() => void) | undefined>): void {
  const held = useRef(keys);
  held.current = keys;
  useEffect(() => {
    const down = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
      if ((event.target as Element | null)?.closest(TYPING)) return;
      const press = held.current[event.key.toLowerCase()];
      if (!press || (event.key === "Enter" && (event.target as Element | null)?.closest(PRESSED))) return;
      event.preventDefault();
      press();
    };
    window.addEventListener("keydown", down);
    return () => window.removeEventListener("keydown", down);
  }, []);
}
