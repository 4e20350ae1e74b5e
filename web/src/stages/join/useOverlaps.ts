import { usePreview } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { sourcesOf } from "../../desk/products";
import { useDesk } from "../../desk/store";
import { useMeasured } from "../../desk/useMeasured";

export interface Overlap {
  first: number;
  second: number;
  cells: number;
  /** Cells far from the median, such as undeclared voids. */
  blunders: number;
  mean: number;
  deviation: number;
  lowest: number;
  highest: number;
  median: number;
  nmad: number;
  /** Metres a kilometre, falling towards `direction`. */
  tilt: number;
  direction: number;
  /** How many times the first stands as high as the second where that looks like another unit; else 0. */
  unit_factor: number;
  histogram: { low: number; high: number; counts: number[] };
  after: number;
  phase: { kind: "aligned" | "off" | "size" | "crs"; off: number };
}

export interface Overlaps {
  /** Width of the cells looked at, and of the frame's own. */
  cell: number;
  finest: number;
  pairs: Overlap[];
  planes: { offset: number; tilt: number }[];
  alone: number[];
  shares: number[];
  seams: [number, number][][];
  unit: string;
}

/** The sources chosen for the mosaic, best first, and how they differ where two of them have heights. */
export function useOverlaps() {
  const project = useProject();
  const { surfaces } = useHeld();
  const sheet = useDesk((desk) => desk.sheets.mosaic);
  const given = sheet?.inputs.surfaces;
  const ids = Array.isArray(given) ? given : [];
  const used = ids.flatMap((id) => surfaces.find((one) => one.id === id) ?? []);
  const chosen = sourcesOf(used);
  const { rule, feather, band, given: areas, levelling, held, groups } = sheet?.params ?? {};
  const params = Object.fromEntries(
    Object.entries({ rule, feather, band, given: areas, levelling, held, groups }).filter(
      ([, value]) => value !== undefined && value !== null,
    ),
  );
  const asked = chosen.length > 1 && project.role !== "viewer";
  const { data, isFetching, error } = usePreview(
    project.id,
    asked ? { operation: "overlaps", params, inputs: { surfaces: used.map((one) => one.id) } } : null,
  );
  const body = { operation: "overlaps", params, inputs: { surfaces: used.map((one) => one.id) } };
  const { exact, measure } = useMeasured<Overlaps>(body, "Overlaps");
  return {
    chosen,
    overlaps: asked ? (exact ?? (data?.table?.facts as Overlaps | null | undefined)) : undefined,
    waiting: isFetching,
    failed: error?.message ?? null,
    /** The same on every cell of the frame, as a job. */
    measure,
  };
}
