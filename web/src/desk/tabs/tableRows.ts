import type { Table } from "../../api/client";

export type Row = Table["rows"][number];

/** By which column rows are put in order, and whether the largest comes first. */
export interface Sorting {
  column: number;
  down: boolean;
}

/** Rows in order of a column; what is missing comes last either way. */
export function sorted(rows: Row[], sorting: Sorting | null): Row[] {
  if (!sorting) return rows;
  const { column, down } = sorting;
  const missing = (row: Row) => row[column] === null || row[column] === undefined;
  return [...rows].sort((one, other) => {
    if (missing(one) || missing(other)) return Number(missing(one)) - Number(missing(other));
    const [a, b] = [one[column], other[column]];
    const order =
      typeof a === "number" && typeof b === "number"
        ? a - b
        : String(a).localeCompare(String(b), "en", { numeric: true });
    return down ? -order : order;
  });
}

/** Rows with tabs between, for a spreadsheet: titles with units first, numbers in all their digits. */
export function asText(columns: Table["columns"], rows: Row[]): string {
  const head = columns.map(({ title, unit }) => (unit ? `${title} (${unit})` : title));
  return [head, ...rows.map((row) => row.map((value) => String(value ?? "")))]
    .map((line) => line.join("\t"))
    .join("\n");
}
