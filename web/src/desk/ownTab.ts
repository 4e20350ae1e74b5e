import { type ComponentType, useEffect } from "react";
import { useDesk } from "./store";

/** A tab of the strip that belongs to a worksheet. */
export interface OwnTab {
  title: string;
  hint: string;
  Body: ComponentType;
}

/** Brings a tab into the strip, and to front, for as long as the worksheet is open. It must stay the same object. */
export function useOwnTab(own: OwnTab): void {
  useEffect(() => {
    useDesk.setState({ ownTab: own, tab: "own" });
    return () => useDesk.setState(({ tab }) => ({ ownTab: null, tab: tab === "own" ? "surfaces" : tab }));
  }, [own]);
}
