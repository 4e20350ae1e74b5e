import { type ComponentType, useEffect } from "react";
import { useDesk } from "./store";

const always = () => true;

/** A tab of the strip that belongs to a worksheet. */
export interface OwnTab {
  title: string;
  hint: string;
  Body: ComponentType;
}

/**
 * Brings a tab into the strip, and to front unless told otherwise, for as long as the worksheet is open. It must stay the same
 * object.
 */
export function useOwnTab(own: OwnTab, toFront: () => boolean = always): void {
  useEffect(() => {
    useDesk.setState(toFront() ? { ownTab: own, tab: "own" } : { ownTab: own });
    return () => useDesk.setState(({ tab }) => ({ ownTab: null, tab: tab === "own" ? "surfaces" : tab }));
  }, [own, toFront]);
}
