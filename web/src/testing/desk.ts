import type { Overlays } from "../desk/overlays";
import { toolOf, useDesk } from "../desk/store";
import type { Place } from "../map/shapes";

/** What is shown of one kind over the surfaces; undefined where nothing is. */
export const shownOver = <K extends keyof Overlays>(kind: K): Overlays[K] | undefined =>
  useDesk.getState().overlays.findLast((one) => one.kind === kind)?.shown as Overlays[K] | undefined;

/** The tool in hand. */
export const inHand = () => toolOf(useDesk.getState());

/** Draws with the tool in hand. */
export function drawn(places: Place[]): void {
  const tool = inHand();
  if (tool.kind !== "area" && tool.kind !== "line") throw new Error(`nothing is drawn with ${tool.kind}`);
  tool.done(places);
  useDesk.getState().drop(tool.owner);
}
