import { useMemo } from "react";
import { type Outlined, useOverlay } from "../desk/overlays";
import { toolOf, useDesk } from "../desk/store";
import type { Line } from "../map/shapes";
import { rectangleAround } from "./geometry";
import { useMend } from "./state";
import { useRuler } from "./useMended";
import { type AnyEntry, placesOf } from "./useStack";

function lookOf(entry: AnyEntry, chosen: string | null, wrong: Set<string>): Outlined["look"] {
  if (entry.name === chosen) return "chosen";
  if (entry.kind === "keep_out") return "kept out";
  if (!entry.content.on) return "off";
  return wrong.has(entry.name) ? "wrong" : "patch";
}

/** All outlines on the map, but that whose vertices are dragged. */
export function useOutlines(all: AnyEntry[], wrong: Set<string>) {
  const { perMetre, toGround, fromGround } = useRuler();
  const chosen = useMend((mend) => mend.chosen);
  const reshaped = useDesk((desk) => toolOf(desk).kind === "vertices");
  const outlines = useMemo(() => {
    let number = 0;
    const drawn = all.flatMap((one): Outlined[] => {
      if (one.kind === "patch") number += 1;
      if (one.name === chosen && reshaped && one.content.ring) return [];
      const drawnHere: Outlined[] = [
        {
          name: one.name,
          title: one.kind === "patch" ? `${number} ${one.content.name}` : one.content.name,
          places: placesOf(one.content),
          width: one.content.line ? one.content.width : null,
          look: lookOf(one, chosen, wrong),
          press: () => useMend.getState().set({ chosen: one.name }),
        },
      ];
      // a structure without square corners: the rectangle that would be one
      if (one.kind === "patch" && one.content.operator.kind === "along" && one.content.ring && wrong.has(one.name))
        drawnHere.push({
          name: `${one.name} squared`,
          title: "with square corners (Q)",
          places: fromGround(rectangleAround(toGround(one.content.ring as Line))),
          width: null,
          look: "off",
          press: () => useMend.getState().set({ chosen: one.name }),
        });
      return drawnHere;
    });
    return drawn.length ? { outlines: drawn, perMetre } : null;
  }, [all, chosen, reshaped, wrong, perMetre, toGround, fromGround]);
  useOverlay("patches", outlines);
}
