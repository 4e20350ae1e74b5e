import { usePictures } from "../../api/queries";
import { useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";

const [WIDE, HIGH] = [176, 104]; // pixels asked for; shown at half the size
const SHARE = 3; // of the view's width

/** What each rule makes of the middle of the view: an address for an image by rule, or what stands in the way. */
export function useRulePictures(rules: string[], on: boolean) {
  const project = useProject();
  const bounds = useDesk((desk) => desk.bounds);
  const sheet = useDesk((desk) => desk.sheets.mosaic);
  const inputs = { surfaces: sheet?.inputs.surfaces ?? [] };
  const params = Object.fromEntries(
    Object.entries(sheet?.params ?? {}).filter(([name, value]) => value != null && name !== "rule" && name !== "pair"),
  );
  let area: [number, number, number, number] | null = null;
  if (bounds) {
    const [west, south, east, north] = bounds;
    const [x, y] = [(west + east) / 2, (south + north) / 2];
    const cell = Math.max((east - west) / SHARE / WIDE, project.frame.grid.cell_width / 2);
    area = [x - (cell * WIDE) / 2, y - (cell * HIGH) / 2, x + (cell * WIDE) / 2, y + (cell * HIGH) / 2];
  }
  const asked = on && area && Array.isArray(inputs.surfaces) && inputs.surfaces.length > 1;
  const { data, isFetching, error } = usePictures(
    project.id,
    asked
      ? {
          runs: rules.map((rule) => ({ operation: "mosaic", params: { ...params, rule }, inputs })),
          bounds: area as [number, number, number, number],
          width: WIDE,
          height: HIGH,
        }
      : null,
  );
  return { pictures: data, waiting: isFetching, failed: error?.message ?? null };
}
