import { useCallback, useEffect, useRef, useState } from "react";
import { useMendedStack } from "./useMended";
import type { AnyEntry } from "./useStack";

const PAUSE = 300; // milliseconds after the last key until what is typed is one change

/** An entry's content as it is typed, sent as one change when nobody types any more. */
export function useTyped<C extends AnyEntry["content"]>(entry: { name: string; kind: AnyEntry["kind"]; content: C }) {
  const { change } = useMendedStack();
  const [typed, setTyped] = useState<C | null>(null);
  const waiting = useRef<{ timer: number; content: C; send: () => void } | null>(null);
  const { name, kind, content } = entry;
  const set = useCallback(
    (more: Partial<C>, atOnce = false) => {
      if (waiting.current) window.clearTimeout(waiting.current.timer);
      const next = { ...(waiting.current?.content ?? content), ...more };
      const send = () => {
        waiting.current = null;
        change([{ name, kind, content: next as never }]);
        setTyped(null);
      };
      waiting.current = { timer: window.setTimeout(send, atOnce ? 0 : PAUSE), content: next, send };
      setTyped(next);
    },
    [change, name, kind, content],
  );
  // what was typed last is not lost when the patch is closed
  useEffect(
    () => () => {
      if (!waiting.current) return;
      window.clearTimeout(waiting.current.timer);
      waiting.current.send();
    },
    [],
  );
  return { content: typed ?? content, set };
}
