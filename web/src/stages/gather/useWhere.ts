import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { call, type Place } from "../../api/client";
import { KEYS } from "../../api/keys";
import { useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { useSettled } from "../../desk/useSettled";
import type { Ring } from "../../map/shapes";
import { boxOf } from "./area";

/** Metres around a place that are asked for. */
const AROUND = 1_500;

const square = (x: number, y: number, half: number): Ring => [
  [x - half, y - half],
  [x + half, y - half],
  [x + half, y + half],
  [x - half, y + half],
];

/** A tile's area without its rim, so that its neighbours are not asked for. */
function within(ring: Ring): Ring {
  const [west, south, east, north] = boxOf(ring);
  return square((west + east) / 2, (south + north) / 2, 0.45 * Math.min(east - west, north - south));
}

/** Where: a place, a tile of any product or a position, as it is typed. What is none of them asks for nothing. */
export function useWhere(
  places: Place[],
  tiles: { name: string; ring: unknown }[],
  setArea: (area: Ring | null) => void,
) {
  const project = useProject();
  const set = useDesk((desk) => desk.set);
  const [typed, setTyped] = useState("");
  const name = typed.trim();
  const settled = useSettled(name, 300);
  const called = (one: { name: string }) => one.name.toLowerCase() === name.toLowerCase();
  const place = places.find(called);
  const tile = tiles.find(called);
  const isPosition = /\d/.test(settled) && settled === name && !place && !tile;
  const { data: at, error } = useQuery({
    queryKey: KEYS.position(project.id, settled),
    queryFn: () =>
      call<{ x: number; y: number }>("GET", `/projects/${project.id}/position?text=${encodeURIComponent(settled)}`),
    enabled: isPosition,
    retry: false,
    staleTime: Infinity,
  });
  const position = isPosition ? at : undefined;
  const area = place
    ? square(place.x, place.y, AROUND)
    : tile
      ? within(tile.ring as Ring)
      : position
        ? square(position.x, position.y, AROUND)
        : null;
  const lost =
    name && settled === name && !area && !(isPosition && !error)
      ? isPosition && error
        ? `No place or tile is called so, and ${error.message.charAt(0).toLowerCase()}${error.message.slice(1)}`
        : `No place or tile is called ${name}.`
      : null;
  const applied = useRef("");
  useEffect(() => {
    if (lost) {
      if (applied.current !== `lost ${name}`) setArea(null);
      applied.current = `lost ${name}`;
    } else if (area && applied.current !== name) {
      const [west, south, east, north] = boxOf(area);
      setArea(area);
      set({ goTo: { x: (west + east) / 2, y: (south + north) / 2, resolution: 8 } });
      applied.current = name;
    }
  }, [area, lost, name, set, setArea]);
  return {
    typed,
    type: (text: string) => {
      if (!text.trim() && typed.trim()) setArea(null);
      applied.current = "";
      setTyped(text);
    },
    /** Forget what was typed; the area stays. */
    forget: () => {
      applied.current = "";
      setTyped("");
    },
    lost,
  };
}
