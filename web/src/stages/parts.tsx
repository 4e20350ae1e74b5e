import { MenuItem, Select } from "@mui/material";
import { type ReactNode, useId, useState } from "react";
import type { Finding, Holding } from "../api/client";
import { LONGEST_NAME, parse } from "../desk/format";
import { WeightIcon } from "../desk/icons";
import { Sentence } from "../desk/Sentence";
import { type Stage, useDesk } from "../desk/store";

/** A worksheet's frame: title, way back, and a foot that stays in sight while the rest scrolls. */
export function Sheet(props: { stage: Stage; title: string; lead?: string; foot?: ReactNode; children: ReactNode }) {
  const open = useDesk((desk) => desk.open);
  return (
    <>
      <header>
        <h1>{props.title}</h1>
        <button type="button" className="back" onClick={() => open(props.stage)}>
          <svg viewBox="0 0 6 9" width="6" height="9" aria-hidden="true">
            <path d="M5 1 1.500 4.500 5 8" />
          </svg>
          All in {props.stage}
        </button>
      </header>
      {props.lead && <p className="lead">{props.lead}</p>}
      <div className="scroll">{props.children}</div>
      {props.foot && <div className="run">{props.foot}</div>}
    </>
  );
}

/** A worksheet that works on a surface, where there is none yet. */
export const NoSurface = ({ stage, title }: { stage: Stage; title: string }) => (
  <Sheet stage={stage} title={title}>
    <p className="remark">No surface yet. Add or order tiles in Gather, or make one in Build.</p>
  </Sheet>
);

export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="sec">
      <h2>
        {title}
        {aside && <small>{aside}</small>}
      </h2>
      {children}
    </section>
  );
}

interface ChoiceProps {
  label: string;
  value: string;
  options: { value: string; title: string }[];
  onChange: (value: string) => void;
  empty?: string;
}

/** A choice from a list, on one row with its label. */
export function Choice({ label, value, options, onChange, empty = "choose" }: ChoiceProps) {
  const id = useId();
  return (
    <div className="row">
      <span className="lab" id={id}>
        {label}
      </span>
      <span className="field selecting">
        <Select
          variant="standard"
          disableUnderline
          fullWidth
          displayEmpty
          value={options.some((option) => option.value === value) ? value : ""}
          onChange={(event) => onChange(event.target.value)}
          inputProps={{ "aria-label": label }}
        >
          {!options.some((option) => option.value === value) && (
            <MenuItem value="" disabled>
              {options.length ? empty : "none yet"}
            </MenuItem>
          )}
          {options.map((option) => (
            <MenuItem key={option.value} value={option.value}>
              {option.title}
            </MenuItem>
          ))}
        </Select>
      </span>
    </div>
  );
}

/** A holding of one kind, by its name. */
export function HoldingChoice(props: {
  label: string;
  holdings: Holding[];
  value: number | undefined;
  onChange: (id: number) => void;
}) {
  return (
    <Choice
      label={props.label}
      value={props.value === undefined ? "" : String(props.value)}
      options={props.holdings.map((one) => ({ value: String(one.id), title: one.name }))}
      onChange={(id) => props.onChange(Number(id))}
    />
  );
}

/** Whether features hold that kind of geometry. */
export const has = (one: Holding, kind: "lines" | "polygons") => (one.features?.counts[kind] ?? 0) > 0;

/** One of several holdings that may be left out, as an input of a worksheet. */
export function Beside(props: {
  label: string;
  input: string;
  holdings: Holding[];
  work: {
    inputs: Record<string, number | number[]>;
    setInput: (role: string, ids: number[]) => void;
  };
  /** What stands where nothing is chosen. */
  none?: string;
}) {
  const given = props.work.inputs[props.input];
  const chosen = Array.isArray(given) ? given[0] : given;
  const NOTHING = "none";
  return (
    <Choice
      label={props.label}
      value={chosen === undefined ? NOTHING : String(chosen)}
      options={[
        { value: NOTHING, title: props.none ?? "none" },
        ...props.holdings.map((one) => ({ value: String(one.id), title: one.name })),
      ]}
      onChange={(next) => props.work.setInput(props.input, next === NOTHING ? [] : [Number(next)])}
    />
  );
}

interface NumberProps {
  label: string;
  unit?: string;
  value: number | null | undefined;
  placeholder?: string;
  onChange: (value: number | null) => void;
}

/** A number with its unit; empty means no limit or the usual value, as the placeholder says. */
export function NumberField({ label, unit, value, placeholder, onChange }: NumberProps) {
  const [text, setText] = useState<string | null>(null);
  const id = useId();
  const shown = text ?? (value === null || value === undefined ? "" : String(value));
  const bad = shown.trim() !== "" && parse(shown) === null;
  return (
    <>
      <label htmlFor={id}>{label}</label>
      <span className={`field ${bad ? "bad" : ""}`}>
        <input
          id={id}
          inputMode="decimal"
          value={shown}
          placeholder={placeholder}
          aria-invalid={bad}
          onChange={(event) => {
            setText(event.target.value);
            const typed = event.target.value.trim();
            if (typed === "") onChange(null);
            else if (parse(typed) !== null) onChange(parse(typed));
          }}
          onBlur={() => setText(bad ? text : null)}
        />
        {unit && <span className="u">{unit}</span>}
      </span>
    </>
  );
}

/** Numbers with blanks or semicolons between them. */
export function NumbersField(props: {
  label: string;
  unit: string;
  value: number[];
  onChange: (values: number[]) => void;
}) {
  const { label, unit, value, onChange } = props;
  const [text, setText] = useState<string | null>(null);
  const id = useId();
  const read = (typed: string) => {
    const parts = typed.split(/[;\s]+|,\s+/).filter(Boolean);
    const numbers = parts.map(parse);
    return parts.length && numbers.every((one) => one !== null) ? (numbers as number[]) : null;
  };
  const shown = text ?? value.join(" ");
  const bad = read(shown) === null;
  return (
    <>
      <label htmlFor={id}>{label}</label>
      <span className={`field ${bad ? "bad" : ""}`}>
        <input
          id={id}
          className="text"
          value={shown}
          aria-invalid={bad}
          onChange={(event) => {
            setText(event.target.value);
            const numbers = read(event.target.value);
            if (numbers) onChange(numbers);
          }}
          onBlur={() => setText(bad ? text : null)}
        />
        <span className="u">{unit}</span>
      </span>
    </>
  );
}

/** What the result will be called; the usual name where nothing is typed. */
export function NameRow(props: { value: string; usual: string; onChange: (name: string) => void }) {
  return (
    <div className="row">
      <label htmlFor="result-name">Name</label>
      <span className="field">
        <input
          id="result-name"
          className="text"
          maxLength={LONGEST_NAME}
          value={props.value}
          placeholder={props.usual}
          onChange={(event) => props.onChange(event.target.value)}
        />
      </span>
    </div>
  );
}

const WORD = { note: "Note.", caution: "Caution.", stop: "Stop." };

/** Findings with their fixes. `onFix` sets parameters; places can be shown on the map. */
export function Findings({
  findings,
  onFix,
  bare,
}: {
  findings: Finding[];
  onFix?: (change: Record<string, unknown>) => void;
  /** Without a heading of its own. */
  bare?: boolean;
}) {
  const set = useDesk((desk) => desk.set);
  const shown = useDesk((desk) => desk.places);
  if (!findings.length) return null;
  const listed = findings.map((finding) => (
    <div key={`${finding.code}${finding.fix?.label ?? ""}`} className={`find ${finding.weight}`}>
      <WeightIcon weight={finding.weight} />
      <b>{WORD[finding.weight]}</b> <Sentence text={`${finding.sentence} ${finding.why}`} />
      {((finding.fix && onFix) || finding.places.length > 0) && (
        <div className="acts">
          {finding.fix && onFix && (
            <button type="button" className="btn" onClick={() => onFix(finding.fix?.set_params ?? {})}>
              {finding.fix.label}
            </button>
          )}
          {finding.places.length > 0 && (
            <button
              type="button"
              className="lnk"
              onClick={() => set({ places: shown.length ? [] : (finding.places as [number, number][]) })}
            >
              {shown.length ? "Hide them" : "Show them"}
            </button>
          )}
        </div>
      )}
    </div>
  ));
  return bare ? <div>{listed}</div> : <Section title="Findings">{listed}</Section>;
}
