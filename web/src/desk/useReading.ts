import { useProbe } from "../api/queries";
import { quantityOf, useHeld, useProject } from "./context";
import { useDesk } from "./store";

/** What A (or the preview in its place, but for A − B) and B say under the pointer: one question a cell, not one a pixel. */
export function useReading() {
  const project = useProject();
  const grid = project.frame.grid;
  const { a, b } = useHeld();
  const pointer = useDesk((desk) => desk.pointer);
  const minusOf = useDesk((desk) => desk.mode === "minus");
  const drawn = useDesk((desk) => desk.preview);
  const preview = minusOf && a && b ? null : drawn;
  const at: [number, number] | null = pointer
    ? [
        grid.west + (Math.floor((pointer[0] - grid.west) / grid.cell_width) + 0.5) * grid.cell_width,
        grid.north - (Math.floor((grid.north - pointer[1]) / grid.cell_height) + 0.5) * grid.cell_height,
      ]
    : null;
  const { data, error } = useProbe(project.id, at, preview?.key ?? a?.key ?? null, b?.key ?? null);
  const quantity = preview?.quantity ?? quantityOf(a);
  const heightA = at ? data?.readings.a?.height : null;
  const heightB = at ? data?.readings.b?.height : null;
  const minus = heightA != null && heightB != null && quantityOf(b) === quantity ? heightA - heightB : null;
  return { at, preview, reading: at ? data : undefined, error, quantity, a: heightA, b: heightB, minus };
}
