import { useEffect } from "react";
import { useHeld } from "./context";
import { useDesk } from "./store";

/** A holding that was fixed takes the place of its original wherever that is chosen, once: whoever then chooses the original keeps it. */
export function StandIn() {
  const { all } = useHeld();
  const stoodIn = useDesk((desk) => desk.stoodIn);
  const standIn = useDesk((desk) => desk.standIn);
  useEffect(() => {
    const pairs = all.flatMap((old) => {
      const fixed = all.find((one) => one.id === old.fixed_by_id);
      return fixed && !stoodIn.includes(fixed.id) ? [{ old, fixed }] : [];
    });
    if (pairs.length) standIn(pairs);
  }, [all, stoodIn, standIn]);
  return null;
}
