import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Holding } from "../../api/client";
import { useProject } from "../context";
import { num } from "../format";
import { useDesk } from "../store";

interface Row {
  id: number;
  properties: Record<string, string | number | boolean | null>;
  geometry: { type: string; coordinates: unknown };
}

const SHOWN = 200;

/** The first position of a geometry. */
export function startOf(coordinates: unknown): [number, number] {
  let node = coordinates;
  while (Array.isArray(node) && Array.isArray(node[0])) node = node[0];
  const [x = 0, y = 0] = node as number[];
  return [x, y];
}

/** A condition such as `width > 3` or `name = Avel`; null where it is none of the columns'. */
export function condition(text: string, columns: string[]): ((row: Row["properties"]) => boolean) | null {
  const found = /^\s*(.+?)\s*(<=|>=|!=|=|<|>|contains)\s*(.*?)\s*$/i.exec(text);
  if (!found) return null;
  const [, column = "", sign = "", value = ""] = found;
  if (!columns.includes(column)) return null;
  const wanted = value.replace(/^["'](.*)["']$/, "$1");
  const number = Number(wanted);
  const numeric = wanted !== "" && Number.isFinite(number);
  return (row) => {
    const held = row[column];
    const text = String(held ?? "");
    if (sign === "contains") return text.toLowerCase().includes(wanted.toLowerCase());
    if (sign === "=") return numeric && typeof held === "number" ? held === number : text === wanted;
    if (sign === "!=") return numeric && typeof held === "number" ? held !== number : text !== wanted;
    if (!numeric || typeof held !== "number") return false;
    return sign === "<"
      ? held < number
      : sign === ">"
        ? held > number
        : sign === "<="
          ? held <= number
          : held >= number;
  };
}

/** The attributes of features: find by any text or by a condition, go to one on the map. */
export function FeatureTable({ holding }: { holding: Holding }) {
  const project = useProject();
  const set = useDesk((desk) => desk.set);
  const [text, setText] = useState("");
  const columns = Object.keys(holding.features?.attributes ?? {});
  const { data, error } = useQuery({
    queryKey: ["drawn", project.id, holding.id, project.frame.grid.crs],
    queryFn: () => call<{ features: Row[] }>("GET", `/projects/${project.id}/holdings/${holding.id}/features`),
    staleTime: Infinity,
  });
  const found = useMemo(() => {
    const rows = data?.features ?? [];
    const test = condition(text, columns);
    if (test) return rows.filter((row) => test(row.properties));
    const words = text.trim().toLowerCase();
    if (!words) return rows;
    return rows.filter((row) =>
      Object.values(row.properties).some((value) =>
        String(value ?? "")
          .toLowerCase()
          .includes(words),
      ),
    );
  }, [data, text, columns]);
  if (error) return <p className="fail">{error.message}</p>;
  return (
    <>
      <div className="find-row">
        <input
          aria-label="Find features"
          placeholder={columns[0] ? `any text, or ${columns[0]} = ...` : "any text"}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <span className="mut">
          <span className="n">{num(found.length)}</span> of <span className="n">{num(data?.features.length ?? 0)}</span>
        </span>
        {text && found.length > 0 && (
          <button
            type="button"
            className="lnk"
            onClick={() => set({ places: found.slice(0, 500).map((row) => startOf(row.geometry.coordinates)) })}
          >
            Show them
          </button>
        )}
      </div>
      <table className="t tight" aria-label={`Features of ${holding.name}`}>
        <thead>
          <tr>
            <th>no.</th>
            {columns.map((column) => (
              <th key={column} className={holding.features?.attributes[column] === "number" ? "" : "w"}>
                {column}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {found.slice(0, SHOWN).map((row) => (
            <tr
              key={row.id}
              className="goes"
              onClick={() => {
                const [x, y] = startOf(row.geometry.coordinates);
                set({ goTo: { x, y }, places: [[x, y]] });
              }}
            >
              <td className="n">{num(row.id + 1)}</td>
              {columns.map((column) => {
                const value = row.properties[column];
                return (
                  <td key={column} className={typeof value === "number" ? "n" : "w"}>
                    {typeof value === "number" ? num(value, Number.isInteger(value) ? 0 : 2) : String(value ?? "")}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      {found.length > SHOWN && (
        <p className="mut">
          The first <span className="n">{num(SHOWN)}</span> are listed. Find the others by a word.
        </p>
      )}
    </>
  );
}
