import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { Layout, TableLook } from "../../api/client";
import { num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import type { Place } from "../../map/shapes";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Section } from "../../ui/Sheet";
import { TextField } from "../../ui/TextField";
import { Findings } from "../Findings";
import styles from "./columnMatch.module.css";

const SEPARATORS: [string, string][] = [
  [",", "comma"],
  [";", "semicolon"],
  ["\t", "tabulator"],
  [" ", "blanks"],
  ["|", "bar"],
  ["*", "any of these"],
];
const THOUSANDS = [
  { value: "none", title: "nothing between" },
  { value: ".", title: "point, 1.102,5" },
  { value: ",", title: "comma, 1,102.5" },
  { value: " ", title: "blank, 1 102.5" },
  { value: "'", title: "apostrophe, 1'102.5" },
  { value: "\u2019", title: "apostrophe, 1\u2019102.5" },
  { value: "\u00a0", title: "hard blank" },
  { value: "\u202f", title: "narrow blank" },
];
const ROLES = [
  ["x", "X, east"],
  ["y", "Y, north"],
  ["z", "Height"],
  ["code", "Code"],
] as const;

const UNITS: [string, string][] = [
  ["m", "metres"],
  ["ft", "international feet"],
  ["us-ft", "US survey feet"],
];

interface Props<T> {
  table: TableLook;
  crs: string;
  /** Reads the table as declared; and takes it, as declared. */
  look: (declared: Record<string, unknown>) => Promise<TableLook>;
  take: (declared: Record<string, unknown>) => Promise<T>;
  onTaken: (answer: T) => void;
  onLeave: () => void;
  /** What the button says. */
  action?: string;
}

/** The columns of a table matched to X, Y, height and code, with first rows and a dot map, before it is taken in. */
export function ColumnMatch<T>(props: Props<T>) {
  const { table: first, crs: given, onTaken, onLeave, action } = props;
  const set = useDesk((desk) => desk.set);
  const [table, setTable] = useState(first);
  const [declared, setDeclared] = useState<Record<string, unknown>>(given ? { crs: given } : {});
  const [crs, setCrs] = useState(first.crs);
  const look = useMutation({
    mutationFn: props.look,
    onSuccess: (found, next) => {
      setTable(found);
      setDeclared(next);
    },
  });
  const take = useMutation({
    mutationFn: () => props.take(declared),
    onSuccess: onTaken,
  });
  useOverlay("dots", table.dots as Place[]);
  const layout = table.layout;
  const change = (what: Partial<Layout>) => {
    const sure = { ...layout.confidence };
    for (const role of Object.keys(what)) sure[role] = 1;
    look.mutate({ ...declared, layout: { ...layout, ...what, confidence: sure } });
  };
  const columns = layout.columns.map((name, i) => ({ value: String(i), title: name }));
  const roleOf = (column: number) => ROLES.find(([role]) => layout[role] === column);
  const stop = table.findings.some((finding) => finding.weight === "stop");
  const error = look.error ?? take.error;
  return (
    <section className={styles.match} aria-label={`Columns of ${table.name}`}>
      <Section
        title={table.name}
        aside={
          <>
            <span className="n">{num(table.rows)}</span> rows
          </>
        }
      >
        {ROLES.map(([role, title]) => (
          <div className={styles.sure} key={role}>
            <Choice
              label={title}
              value={layout[role] === null ? "" : String(layout[role])}
              options={columns}
              onChange={(value) => change({ [role]: Number(value) } as Partial<Layout>)}
              empty="none"
            />
            {layout[role] !== null && (layout.confidence[role] ?? 1) < 0.9 && <small>a guess: look at the rows</small>}
          </div>
        ))}
        {layout.separator !== "sheet" && (
          <Choice
            label="Separator"
            value={layout.separator}
            options={SEPARATORS.map(([value, title]) => ({ value, title }))}
            onChange={(separator) => {
              const next = { ...declared };
              delete next.layout;
              change({ separator, columns: layout.columns });
            }}
          />
        )}
        {layout.separator !== "sheet" && (
          <Choice
            label="Decimals"
            value={layout.decimal}
            options={[
              { value: ".", title: "point" },
              { value: ",", title: "comma" },
            ]}
            onChange={(decimal) => change({ decimal, thousands: layout.thousands === decimal ? "" : layout.thousands })}
          />
        )}
        {layout.separator !== "sheet" && (
          <Choice
            label="Thousands"
            value={layout.thousands || "none"}
            options={THOUSANDS.filter((one) => one.value !== layout.decimal)}
            onChange={(thousands) => change({ thousands: thousands === "none" ? "" : thousands })}
          />
        )}
        <Choice
          label="First row"
          value={layout.header ? "names" : "data"}
          options={[
            { value: "names", title: "column names" },
            { value: "data", title: "data" },
          ]}
          onChange={(value) => change({ header: value === "names" })}
        />
        <Choice
          label="Heights in"
          value={String(declared.unit ?? "m")}
          options={UNITS.map(([value, title]) => ({ value, title }))}
          onChange={(unit) => look.mutate({ ...declared, unit })}
        />
        <TextField
          label="CRS"
          value={crs}
          onChange={setCrs}
          onLeave={() => crs.trim() !== table.crs && look.mutate({ ...declared, crs: crs.trim() })}
        />
      </Section>
      <Section title="First rows">
        <div className={styles.scrollx}>
          <table className="t tight" aria-label="First rows">
            <thead>
              <tr>
                {layout.columns.map((name, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name
                  <th key={i} className={roleOf(i) ? styles.taken : ""}>
                    {roleOf(i)?.[1] ?? name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {table.first_rows.slice(0, 6).map((row, r) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: rows stay in their order
                <tr key={r}>
                  {layout.columns.map((_, c) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name
                    <td key={c} className="n">
                      {row[c] ?? ""}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p className="mut">
          {table.dots.length ? "Its points stand as dots on the map." : "None of its points can be placed yet."}{" "}
          {table.dots.length > 0 && (
            <Button
              kind="link"
              onClick={() => {
                const xs = table.dots.map(([x]) => x).sort((a, b) => a - b);
                const ys = table.dots.map(([, y]) => y).sort((a, b) => a - b);
                set({ goTo: { x: xs[xs.length >> 1] ?? 0, y: ys[ys.length >> 1] ?? 0 } });
              }}
            >
              Go there
            </Button>
          )}
        </p>
      </Section>
      <Findings findings={table.findings} onFix={(what) => look.mutate({ ...declared, ...what })} />
      {error && (
        <p className={`fail ${styles.pad}`} role="alert">
          {error.message}
        </p>
      )}
      <div className={`acts ${styles.pad}`}>
        <Button kind="primary" disabled={stop || take.isPending} onClick={() => take.mutate()}>
          {action ?? `Take in ${num(table.rows)} rows`}
        </Button>
        <Button kind="link" onClick={onLeave}>
          Leave it
        </Button>
      </div>
    </section>
  );
}
