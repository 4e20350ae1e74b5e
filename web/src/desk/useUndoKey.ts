import { useEffect } from "react";

/** Lets Ctrl+Z (with Shift: again) do something, unless somebody types. Nothing where `press` is null. */
export function useUndoKey(press: ((again: boolean) => void) | null): void {
  useEffect(() => {
    if (!press) return;
    const down = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z") return;
      if ((event.target as Element | null)?.closest("input, textarea, [contenteditable]")) return;
      event.preventDefault();
      press(event.shiftKey);
    };
    window.addEventListener("keydown", down);
    return () => window.removeEventListener("keydown", down);
  }, [press]);
}
