import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import type { DotPoints } from "../../map/pointsPainter";
import { originOf } from "../../map/surfaceLayer";

const NEAR = 9; // pixels from a point within which a click means it
type Place = [number, number];

/** The place of the point nearest to a click, where one is near enough. Rounded to centimetres, as places are kept. */
export function nearestTo(dots: DotPoints, [x, y]: Place, within: number): Place | null {
  let [best, found] = [within * within, -1];
  for (let i = 0; i < dots.count; i++) {
    const apart = ((dots.x[i] as number) - x) ** 2 + ((dots.y[i] as number) - y) ** 2;
    if (apart <= best) [best, found] = [apart, i];
  }
  const rounded = (value: number | undefined) => Math.round((value ?? 0) * 100) / 100;
  return found < 0 ? null : [rounded(dots.x[found]), rounded(dots.y[found])];
}

/** Points that are left out by hand: by a click on each, how many, where, and the way back. */
export function LeftOut(props: { points?: number; places: Place[]; onChange: (places: Place[]) => void }) {
  const { points, places, onChange } = props;
  const project = useProject();
  const client = useQueryClient();
  const set = useDesk((desk) => desk.set);
  const picking = useDesk((desk) => desk.picking);
  const clicked = useDesk((desk) => desk.clicked);
  const [missed, setMissed] = useState(false);
  const grid = project.frame.grid;

  useEffect(() => () => set({ picking: false, clicked: null }), [set]);
  useEffect(() => {
    if (!picking) return;
    const leave = (event: KeyboardEvent) => event.key === "Escape" && set({ picking: false });
    window.addEventListener("keydown", leave);
    return () => window.removeEventListener("keydown", leave);
  }, [picking, set]);
  useEffect(() => {
    if (!clicked) return;
    set({ clicked: null });
    const dots = client.getQueryData<DotPoints>(["drawn", project.id, points, grid.crs]);
    if (!dots) return;
    const [west, south] = originOf(grid);
    const near = nearestTo(dots, [clicked.x - west, clicked.y - south], NEAR * clicked.resolution);
    setMissed(!near);
    if (!near) return;
    const [x, y] = [Math.round((near[0] + west) * 100) / 100, Math.round((near[1] + south) * 100) / 100];
    const rest = places.filter(([px, py]) => Math.hypot(px - x, py - y) > 0.015);
    const next: Place[] = rest.length < places.length ? rest : [...places, [x, y]];
    onChange(next);
    set({ places: next.slice(0, 500) });
  }, [clicked, client, grid, onChange, places, points, project.id, set]);

  return (
    <>
      {points !== undefined && (
        <label className="ck one">
          <input
            type="checkbox"
            checked={picking}
            onChange={(event) => {
              setMissed(false);
              const on = event.target.checked;
              set({ picking: on, places: on ? places.slice(0, 500) : [] });
              if (on) set({ hidden: { ...useDesk.getState().hidden, [points]: false } });
            }}
          />
          Leave points out by a click on each
        </label>
      )}
      {picking && missed && (
        <p className="times mut" role="status">
          No point lies there.
        </p>
      )}
      {places.length > 0 && (
        <p className="times">
          <span>
            <span className="n">{num(places.length)}</span> left out
          </span>
          <button type="button" className="lnk" onClick={() => set({ places: places.slice(0, 500) })}>
            Show
          </button>
          <button
            type="button"
            className="lnk"
            onClick={() => {
              onChange([]);
              set({ places: [] });
            }}
          >
            {places.length === 1 ? "Use it again" : "Use them again"}
          </button>
        </p>
      )}
    </>
  );
}
