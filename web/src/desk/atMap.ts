import { type ComponentType, useEffect } from "react";
import { useDesk } from "./store";

/** Lays something over the map for as long as the worksheet is open. It must stay the same object. */
export function useAtMap(Over: ComponentType): void {
  useEffect(() => {
    useDesk.setState({ atMap: Over });
    return () => useDesk.setState({ atMap: null });
  }, [Over]);
}
