import { useMemo, useState } from "react";
import type { Holding } from "../../api/client";
import { lineOf, startOf } from "../../map/shapes";
import { Button } from "../../ui/Button";
import { pressable } from "../../ui/pressable";
import { type ConditionError, condition, isCondition } from "../condition";
import { num } from "../format";
import { editOf, useDesk } from "../store";
import { useDraft, useFeatures } from "../useDraft";

const SHOWN = 200;

type Size = "length" | "area";
const KINDS: Size[] = ["length", "area"];

/** A length or an area in the unit that makes it short. */
export function sizeIn(kind: Size, metres: number): string {
  if (kind === "length")
    return metres < 10_000 ? `${num(metres, metres < 100 ? 1 : 0)} m` : `${num(metres / 1_000, 2)} km`;
  return metres < 10_000
    ? `${num(metres)} m²`
    : metres < 1e6
      ? `${num(metres / 1e4, 2)} ha`
      : `${num(metres / 1e6, 2)} km²`;
}

/** The attributes of features: find by any text or by a condition, go to one on the map. */
export function FeatureTable({ holding }: { holding: Holding }) {
  const set = useDesk((desk) => desk.set);
  const editing = useDesk((desk) => editOf(desk)?.holding) === holding.id;
  const chosen = useDesk((desk) => desk.chosen);
  const [text, setText] = useState("");
  const columns = useMemo(() => Object.keys(holding.features?.attributes ?? {}), [holding]);
  const untouched = useFeatures(holding);
  const draft = useDraft(editing ? holding : undefined);
  const rows = (editing ? draft.collection : untouched.data)?.features;
  const { error } = untouched;
  const numbers = useMemo(() => {
    const mine = new Set(chosen.holding === holding.id ? chosen.numbers : []);
    return new Set(rows?.flatMap((row) => (mine.has(row.id) ? [row.id] : [])));
  }, [chosen, holding.id, rows]);
  const { found, wrong } = useMemo(() => {
    const all = rows ?? [];
    if (isCondition(text)) {
      try {
        const test = condition(text, columns);
        return { found: all.filter((row) => test(row.properties)), wrong: "" };
      } catch (problem) {
        return { found: [], wrong: (problem as ConditionError).message };
      }
    }
    const words = text.trim().toLowerCase();
    const has = (value: unknown) =>
      String(value ?? "")
        .toLowerCase()
        .includes(words);
    return { found: words ? all.filter((row) => Object.values(row.properties).some(has)) : all, wrong: "" };
  }, [rows, text, columns]);
  const sized = KINDS.filter((kind) => rows?.some((row) => row[kind] !== undefined));
  const sums = sized.map((kind): [Size, number] => [
    kind,
    (rows ?? []).reduce((sum, row) => sum + (numbers.has(row.id) ? (row[kind] ?? 0) : 0), 0),
  ]);
  const one = numbers.size === 1 ? rows?.find((row) => numbers.has(row.id)) : undefined;
  const along = one ? lineOf(one.geometry) : null;
  const choose = (next: number[]) => set({ chosen: { holding: holding.id, numbers: next } });
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
          <span className="n">{num(found.length)}</span> of <span className="n">{num(rows?.length ?? 0)}</span>
        </span>
        {text && found.length > 0 && (
          <Button kind="link" onClick={() => choose(found.map((row) => row.id))}>
            Choose them
          </Button>
        )}
        {numbers.size > 0 && (
          <>
            <span className="mut">
              <span className="n">{num(numbers.size)}</span> chosen
              {sums.map(([kind, sum]) => (
                <span key={kind}>
                  , {kind} <span className="n">{sizeIn(kind, sum)}</span>
                </span>
              ))}
            </span>
            <Button kind="link" onClick={() => choose([])}>
              Choose none
            </Button>
            {along && (
              <Button kind="link" onClick={() => set({ line: along, tab: "profile" })}>
                Profile along it
              </Button>
            )}
          </>
        )}
        {wrong && (
          <span className="fail" role="alert">
            {wrong}.
          </span>
        )}
      </div>
      <table className="t tight" aria-label={`Features of ${holding.name}`}>
        <thead>
          <tr>
            <th>no.</th>
            {sized.map((kind) => (
              <th key={kind}>{kind}</th>
            ))}
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
              className={numbers.has(row.id) ? "goes on" : "goes"}
              aria-selected={numbers.has(row.id)}
              {...pressable((event) => {
                const more = event.shiftKey || event.ctrlKey || event.metaKey;
                if (more)
                  choose(numbers.has(row.id) ? [...numbers].filter((one) => one !== row.id) : [...numbers, row.id]);
                else {
                  const [x, y] = startOf(row.geometry);
                  choose([row.id]);
                  set({ goTo: { x, y } });
                }
              })}
            >
              <td className="n">{num(row.id + 1)}</td>
              {sized.map((kind) => (
                <td key={kind} className="n">
                  {row[kind] === undefined ? "" : sizeIn(kind, row[kind])}
                </td>
              ))}
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
