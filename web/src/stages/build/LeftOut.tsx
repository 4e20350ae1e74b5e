import { num } from "../../desk/format";
import { useDesk } from "../../desk/store";

/** Points that are left out by hand: how many, where, and the way back. */
export function LeftOut({ places, onUse }: { places: [number, number][]; onUse: () => void }) {
  const set = useDesk((desk) => desk.set);
  if (!places.length) return null;
  return (
    <p className="times">
      <span>
        <span className="n">{num(places.length)}</span> {places.length === 1 ? "point is" : "points are"} left out.
      </span>
      <button type="button" className="lnk" onClick={() => set({ places: places.slice(0, 500) })}>
        Show
      </button>
      <button type="button" className="lnk" onClick={onUse}>
        {places.length === 1 ? "Use it again" : "Use them again"}
      </button>
    </p>
  );
}
