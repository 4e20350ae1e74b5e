import { useEffect, useState } from "react";

/** A value that stays still until nothing has changed it for a moment. */
export function useSettled<T>(value: T, wait: number): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  // biome-ignore lint/correctness/useExhaustiveDependencies: equal contents are no change
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), wait);
    return () => window.clearTimeout(timer);
  }, [text, wait]);
  return settled;
}
