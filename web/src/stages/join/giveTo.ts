import type { Holding } from "../../api/client";
import { useDesk } from "../../desk/store";
import type { Place } from "../../map/shapes";
import type { Given } from "./GivenAreas";

/** Opens Join with an area in which one surface is taken instead of another; areas given before stay where both are
 * in the mosaic. */
export function giveTo(better: Holding, other: Holding, area: [number, number][]): void {
  const desk = useDesk.getState();
  const { inputs = {}, params = {}, name = "" } = desk.sheets.mosaic ?? {};
  const ids = [inputs.surfaces ?? []].flat();
  const listed = ids.includes(better.id) && ids.includes(other.id);
  const surfaces = listed ? ids : [other.id, better.id];
  const groups = listed ? ((params.groups as number[] | null | undefined) ?? null) : null;
  const at = surfaces.indexOf(better.id);
  const ring = area.map(([x, y]): Place => [Math.round(x * 100) / 100, Math.round(y * 100) / 100]);
  const before = listed ? ((params.given as Given[] | null | undefined) ?? []) : [];
  const given = [
    ...before.filter((one) => JSON.stringify(one.ring) !== JSON.stringify(ring)),
    { surface: groups?.[at] ?? at, ring },
  ];
  const kept = listed ? params : { ...params, held: undefined, pair: undefined };
  desk.sheet("mosaic", { inputs: { ...inputs, surfaces }, params: { ...kept, groups, rule: "seam", given }, name });
  desk.open("Join", "mosaic");
}
