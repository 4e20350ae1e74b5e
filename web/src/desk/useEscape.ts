import { useEffect, useRef } from "react";

const listening: { current: () => void }[] = [];

/** Does something at Esc, before the worksheet is left; nothing where it is null. The last to ask comes first. */
export function useEscape(leave: (() => void) | null): void {
  const held = useRef<() => void>(() => undefined);
  if (leave) held.current = leave;
  const on = leave !== null;
  useEffect(() => {
    if (!on) return;
    listening.push(held);
    return () => {
      listening.splice(listening.indexOf(held), 1);
    };
  }, [on]);
}

/** Tells the last that asked; whether there was one. */
export function escaped(): boolean {
  const last = listening.at(-1);
  last?.current();
  return last !== undefined;
}
