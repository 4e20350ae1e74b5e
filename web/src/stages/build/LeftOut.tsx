import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { KEYS } from "../../api/keys";
import { useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { usePlaces } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import type { DotPoints } from "../../map/pointsPainter";
import type { Place } from "../../map/shapes";
import { gridSpace } from "../../map/space";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";

const NEAR = 9; // pixels from a point within which a click means it

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
  const marks = usePlaces();
  const [missed, setMissed] = useState(false);
  const grid = project.frame.grid;

  const pick = useTool("pick", (clicked) => {
    const dots = client.getQueryData<DotPoints>(KEYS.drawn(project.id, points, grid.crs));
    if (!dots) return;
    const space = gridSpace(grid);
    const near = nearestTo(dots, space.toPane([clicked.x, clicked.y]), NEAR * clicked.resolution);
    setMissed(!near);
    if (!near) return;
    const [x, y] = space.toPlace(near).map((value) => Math.round(value * 100) / 100) as Place;
    const rest = places.filter(([px, py]) => Math.hypot(px - x, py - y) > 0.015);
    const next: Place[] = rest.length < places.length ? rest : [...places, [x, y]];
    onChange(next);
    marks.show(next);
  });

  return (
    <>
      {points !== undefined && (
        <Check
          label="Leave points out by a click on each"
          checked={pick.inHand}
          onChange={(on) => {
            setMissed(false);
            pick.put(on);
            marks.show(on ? places : null);
            if (on) set({ hidden: { ...useDesk.getState().hidden, [points]: false } });
          }}
        />
      )}
      {pick.inHand && missed && (
        <p className="times mut" role="status">
          No point lies there.
        </p>
      )}
      {places.length > 0 && (
        <p className="times">
          <span>
            <span className="n">{num(places.length)}</span> left out
          </span>
          <Button kind="link" onClick={() => marks.show(places)}>
            Show
          </Button>
          <Button
            kind="link"
            onClick={() => {
              onChange([]);
              marks.show(null);
            }}
          >
            {places.length === 1 ? "Use it again" : "Use them again"}
          </Button>
        </p>
      )}
    </>
  );
}
