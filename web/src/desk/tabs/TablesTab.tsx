import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Table, type TableHolding } from "../../api/client";
import { KEYS } from "../../api/keys";
import { CrossingProfiles, isProfiles } from "../../drain/CrossingProfiles";
import { Button } from "../../ui/Button";
import { type ConditionError, condition, isCondition } from "../condition";
import { useHeld, useProject } from "../context";
import { MadeAndDelete } from "../Deleted";
import { num } from "../format";
import { useDesk } from "../store";
import { asText, type Row, type Sorting, sorted } from "./tableRows";

const SHOWN = 400;

type Column = Table["columns"][number];

function Cell({ column, value }: { column: Column; value: Row[number] }) {
  if (value === null || value === undefined) return <td className={column.type === "text" ? "w" : "n"}>–</td>;
  if (typeof value === "boolean") return <td className="w">{value ? "yes" : "no"}</td>;
  if (typeof value === "number")
    return (
      <td>
        <span className="n">{num(value, column.type === "whole" ? 0 : (column.decimals ?? 2))}</span> {column.unit}
      </td>
    );
  return <td className="w">{value}</td>;
}

/** The rows of a table: found by any text or by a condition, put in order by a column. */
function Rows({ holding }: { holding: TableHolding }) {
  const project = useProject();
  const path = `/projects/${project.id}/holdings/${holding.id}`;
  const [text, setText] = useState("");
  const [sorting, setSorting] = useState<Sorting | null>(null);
  const [said, setSaid] = useState("");
  const { data, error } = useQuery({
    queryKey: KEYS.table(project.id, holding.id),
    queryFn: () => call<Table>("GET", `${path}/table`),
    staleTime: Infinity,
  });
  const { found, wrong } = useMemo(() => {
    const all = data?.rows ?? [];
    const columns = data?.columns ?? [];
    let kept = all;
    let problem = "";
    if (isCondition(text)) {
      try {
        const test = condition(
          text,
          columns.map((column) => column.title),
        );
        kept = all.filter((row) => test(Object.fromEntries(columns.map(({ title }, i) => [title, row[i]]))));
      } catch (refused) {
        kept = [];
        problem = (refused as ConditionError).message;
      }
    } else if (text.trim()) {
      const words = text.trim().toLowerCase();
      kept = all.filter((row) =>
        row.some((value) =>
          String(value ?? "")
            .toLowerCase()
            .includes(words),
        ),
      );
    }
    return { found: sorted(kept, sorting), wrong: problem };
  }, [data, text, sorting]);
  if (error) return <p className="fail">{error.message}</p>;
  if (!data) return <p className="empties">Reading the table…</p>;
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(asText(data.columns, found));
      setSaid(`${num(found.length)} rows copied.`);
    } catch {
      setSaid("The browser did not allow copying; select the table instead.");
    }
  };
  return (
    <>
      <div className="find-row">
        <input
          aria-label="Find rows"
          placeholder={data.columns[0] ? `any text, or ${data.columns[0].title} = ...` : "any text"}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <span className="mut">
          <span className="n">{num(found.length)}</span> of <span className="n">{num(data.rows.length)}</span>
        </span>
        <Button kind="link" onClick={copy}>
          Copy as table
        </Button>
        <a className="lnk" href={`/api${path}/csv`}>
          Download as CSV
        </a>
        <span className="mut" role="status">
          {said}
        </span>
        {wrong && (
          <span className="fail" role="alert">
            {wrong}.
          </span>
        )}
      </div>
      {isProfiles(data) && <CrossingProfiles table={{ ...data, rows: found }} />}
      <table className="t tight sorted" aria-label={`Rows of ${holding.name}`}>
        <thead>
          <tr>
            {data.columns.map((column, i) => {
              const by = sorting?.column === i ? (sorting.down ? "descending" : "ascending") : "none";
              return (
                <th key={column.name} className={column.type === "text" ? "w" : ""} aria-sort={by}>
                  <button type="button" onClick={() => setSorting({ column: i, down: by === "ascending" })}>
                    {column.title}
                    <span aria-hidden="true">{by === "none" ? "" : by === "ascending" ? " ↑" : " ↓"}</span>
                  </button>
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {found.slice(0, SHOWN).map((row, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: rows have no name of their own
            <tr key={i}>
              {data.columns.map((column, j) => (
                <Cell key={column.name} column={column} value={row[j] ?? null} />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {found.length > SHOWN && (
        <p className="hint">
          The first <span className="n">{num(SHOWN)}</span> are shown. All of them are in the CSV.
        </p>
      )}
    </>
  );
}

function Chosen({ holding }: { holding: TableHolding }) {
  return (
    <div className="chosen">
      <header>
        <b>{holding.name}</b>
        <MadeAndDelete holding={holding} />
      </header>
      <Rows holding={holding} />
    </div>
  );
}

/** Tables of figures that operations gave. */
export function TablesTab() {
  const { tables } = useHeld();
  const id = useDesk((desk) => desk.tabled);
  const set = useDesk((desk) => desk.set);
  const chosen = tables.find((one) => one.id === id) ?? tables[0];
  if (!chosen)
    return (
      <p className="empties">No table yet. Compare methods in Build, or measure overlaps or heights on every cell.</p>
    );
  return (
    <div className="lines">
      <ul aria-label="Tables">
        {tables.map((holding) => (
          <li key={holding.id} className={holding.id === chosen.id ? "on" : ""}>
            <button
              type="button"
              className="pickrow"
              aria-expanded={holding.id === chosen.id}
              onClick={() => set({ tabled: holding.id })}
            >
              <b>{holding.name}</b>
              <span className="mut">
                <span className="n">{num(holding.table.rows)}</span> rows
              </span>
            </button>
          </li>
        ))}
      </ul>
      <Chosen key={chosen.id} holding={chosen} />
    </div>
  );
}
