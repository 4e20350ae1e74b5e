import { useEffect, useId, useRef } from "react";
import { toolOf, useDesk } from "../desk/store";
import type { Tool } from "./tool";

type Simple = Extract<Tool, { kind: "area" | "line" | "pick" | "box" | "freehand" | "brush" }>;
type Given<K extends Simple["kind"]> = K extends "pick"
  ? Parameters<Extract<Tool, { kind: "pick" }>["press"]>[0]
  : Parameters<Extract<Tool, { kind: "area" }>["done"]>[0];

/** A tool of the pointer for a part of the desk: what it gives goes to `take`. It is laid down when the part goes. */
export function useTool<K extends Simple["kind"]>(kind: K, take: (given: Given<K>) => void, snaps = false) {
  const owner = useId();
  const held = useRef(take);
  held.current = take;
  const inHand = useDesk((desk) => {
    const tool = toolOf(desk);
    return "owner" in tool && tool.owner === owner;
  });
  useEffect(() => () => useDesk.getState().drop(owner), [owner]);
  const put = (on: boolean) => {
    const desk = useDesk.getState();
    if (!on) return desk.drop(owner);
    const give = (given: unknown) => held.current(given as Given<K>);
    desk.take((kind === "pick" ? { kind, owner, press: give } : { kind, owner, done: give, snaps }) as Simple);
  };
  return { inHand, put };
}
