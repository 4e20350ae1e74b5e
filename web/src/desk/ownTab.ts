import { type ComponentType, useEffect } from "react";
import { useDesk } from "./store";

const always = () => true;

/** A tab of the strip that belongs to a worksheet. */
export interface OwnTab {
  title: string;
  hint: string;
  Body: ComponentType;
}

export const ownTab = (title: string): `own ${string}` => `own ${title}`;

/**
 * Brings a tab into the strip, and to front unless told otherwise, for as long as the worksheet is open. It must stay the same
 * object.
 */
export function useOwnTab(own: OwnTab, toFront: () => boolean = always): void {
  useEffect(() => {
    const name = ownTab(own.title);
    useDesk.setState(({ ownTabs, tab }) => ({ ownTabs: [...ownTabs, own], tab: toFront() ? name : tab }));
    return () =>
      useDesk.setState(({ ownTabs, tab }) => ({
        ownTabs: ownTabs.filter((one) => one !== own),
        tab: tab === name ? "surfaces" : tab,
      }));
  }, [own, toFront]);
}
