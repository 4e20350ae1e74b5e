import { useEffect, useRef } from "react";
import { useHeld } from "../../desk/context";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Entry } from "../../ui/Entry";
import { OperationSheet } from "../OperationSheet";
import { useWorksheet } from "../useWorksheet";
import styles from "./calculate.module.css";

const LETTERS = [..."abcdefghijklmnopqrstuvwxyz"];
/** What can be put in with a press: what is written, and what it says. */
const PIECES: [string, string][] = [
  ["where(condition, then, else)", "the one or the other"],
  ["isempty(a)", "1 where a is empty"],
  ["min(a, b)", "the lower one"],
  ["max(a, b)", "the higher one"],
  ["abs(a)", "without its sign"],
  ["mean_around(a, 20)", "mean within 20 m"],
  ["std_around(a, 20)", "spread within 20 m"],
  ["median_around(a, 6)", "median within 6 m"],
  ["min_around(a, 20)", "lowest within 20 m"],
  ["max_around(a, 20)", "highest within 20 m"],
];

/** Arithmetic over surfaces that are called a, b, c and so on. */
export function Calculate() {
  const { surfaces, a, b } = useHeld();
  const work = useWorksheet("calculate");
  const { params, setParams, setInput } = work;
  const given = work.sheet.inputs.surfaces;
  const ids = work.ids("surfaces");
  const chosen = ids.flatMap((id) => surfaces.find((one) => one.id === id) ?? []);
  const field = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    if (given !== undefined || !surfaces.length) return;
    const first = [a, b].flatMap((one) => (one ? [one.id] : []));
    setInput("surfaces", first.length ? first : [surfaces[0]?.id ?? 0]);
  }, [given, surfaces, a, b, setInput]);
  const { expression } = params;
  // each surface keeps its letter when another one is left out
  const letters = params.names.length === ids.length ? params.names : LETTERS.slice(0, ids.length);
  const call = (names: string[]) =>
    setParams({ names: names.join() === LETTERS.slice(0, names.length).join() ? null : names });
  const wrong = work.findings.find((one) => one.code === "expression");
  const column = Number(/at column (\d+)/.exec(wrong?.sentence ?? "")?.[1] ?? 0);
  const put = (piece: string) => {
    const at = field.current?.selectionStart ?? expression.length;
    const end = field.current?.selectionEnd ?? at;
    setParams({ expression: expression.slice(0, at) + piece + expression.slice(end) });
    window.setTimeout(() => {
      field.current?.focus();
      field.current?.setSelectionRange(at + piece.length, at + piece.length);
    });
  };
  const lettered = (
    <>
      {chosen.map((one, i) => (
        <div className={styles.lettered} key={one.id}>
          <Choice
            label={letters[i] ?? "?"}
            value={String(one.id)}
            options={surfaces
              .filter((other) => other === one || !ids.includes(other.id))
              .map((other) => ({ value: String(other.id), title: other.name }))}
            onChange={(id) =>
              setInput(
                "surfaces",
                ids.map((old) => (old === one.id ? Number(id) : old)),
              )
            }
          />
          {chosen.length > 1 && (
            <Button
              kind="link"
              aria-label={`Leave out ${letters[i]}`}
              onClick={() => {
                call(letters.filter((_, n) => n !== i));
                setInput(
                  "surfaces",
                  ids.filter((id) => id !== one.id),
                );
              }}
            >
              ×
            </Button>
          )}
        </div>
      ))}
      {chosen.length < Math.min(surfaces.length, 26) && (
        <Button
          kind="link"
          onClick={() => {
            const next = surfaces.find((one) => !ids.includes(one.id));
            const letter = LETTERS.find((free) => !letters.includes(free));
            if (!next || !letter) return;
            call([...letters, letter]);
            setInput("surfaces", [...ids, next.id]);
          }}
        >
          One more surface
        </Button>
      )}
    </>
  );
  const written = (
    <>
      <Entry
        input={field}
        figures
        label="Expression"
        bad={Boolean(wrong)}
        lines={3}
        spellCheck={false}
        value={expression}
        onChange={(expression) => setParams({ expression })}
      />
      {wrong && (
        <p className={styles.formulaerror} role="alert">
          {wrong.sentence}{" "}
          {column > 0 && column <= expression.length && (
            <code>
              {expression.slice(Math.max(column - 9, 0), column - 1)}
              <mark>{expression[column - 1]}</mark>
              {expression.slice(column, column + 8)}
            </code>
          )}
        </p>
      )}
      <p className="hint">
        + − × ÷ (also * and /), comparisons, and, or, not. A cell is empty where anything it needs is empty.
      </p>
      <div className={styles.pieces} role="group" aria-label="Put in">
        {PIECES.map(([piece, says]) => (
          <button type="button" key={piece} title={`${piece}: ${says}`} onClick={() => put(piece)}>
            {piece.split("(")[0]}
          </button>
        ))}
      </div>
    </>
  );
  return (
    <OperationSheet
      work={work}
      name={expression.length < 40 ? expression : "Calculated"}
      findings={work.findings.filter((one) => one !== wrong)}
      parts={[
        { title: "Surfaces", of: [<div key="surfaces">{lettered}</div>] },
        { title: "Expression", of: [<div key="expression">{written}</div>] },
        { title: "Result", of: ["quantity", "name"] },
      ]}
    />
  );
}
