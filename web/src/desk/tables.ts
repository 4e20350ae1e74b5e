import type { Table } from "../api/client";

/** The numbers of a column of a table, row by row; those that are missing are left out. */
export function numbersOf(table: Table, name: string): number[] {
  const at = table.columns.findIndex((column) => column.name === name);
  return table.rows.flatMap((row) => (typeof row[at] === "number" ? row[at] : []));
}
