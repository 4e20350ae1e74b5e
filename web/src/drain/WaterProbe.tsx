import { useQueries } from "@tanstack/react-query";
import { Fragment } from "react";
import { call, type WayDown } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { areaOf } from "../desk/format";
import { useSettled } from "../desk/useSettled";
import { useDrainState } from "./state";
import { drainedOf } from "./useDrained";
import { useNamed } from "./useReference";
import { kilometres } from "./words";

const PAUSE = 120; // milliseconds that the pointer rests before water under it is asked for

/** What drains through the place under the pointer in each slot, and where its water goes. */
export function WaterProbe({ at }: { at: { x: number; y: number } }) {
  const project = useProject();
  const looked = useDrainState((state) => state.looked);
  const place = useSettled(at, PAUSE);
  const named = useNamed();
  const ways = useQueries({
    queries: looked.map(({ content }) => {
      const body = { ...drainedOf(content), x: place.x, y: place.y, drawn: false, named };
      return {
        queryKey: KEYS.wayDown(project.id, project.frame.mark, body),
        queryFn: ({ signal }: { signal: AbortSignal }) =>
          call<WayDown>("POST", `/projects/${project.id}/drainage/way`, body, signal),
        retry: false,
        staleTime: 60_000,
      };
    }),
  });
  const told = looked.flatMap(({ slot }, i) => {
    const way = ways[i]?.data;
    return way?.known ? [{ slot, way }] : [];
  });
  const [first] = told;
  if (!first) return null;
  const { ends, leaves, length } = first.way;
  return (
    <>
      <span>
        <i className="l">drains</i>
        {told.map(({ slot, way }) => (
          <Fragment key={slot}>
            {slot !== "none" && <b className={slot === "a" ? "la" : "lb"}>{slot.toUpperCase()}</b>}
            <b className="n" data-testid={`drains-${slot}`}>
              {areaOf((way.drained ?? 0) * 10_000)}
            </b>
          </Fragment>
        ))}
      </span>
      <span>
        <i className="l">water goes</i> {ends ? `to ${ends}` : leaves ? "off the surface" : "into a hollow"},{" "}
        <b className="n">{kilometres(length ?? 0)} km</b>
      </span>
    </>
  );
}
