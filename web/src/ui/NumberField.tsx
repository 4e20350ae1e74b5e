import { useId, useState } from "react";
import { parse } from "../desk/format";
import { Entry } from "./Entry";
import { Row } from "./Row";

interface Props {
  label: string;
  unit?: string;
  value: number | null | undefined;
  placeholder?: string;
  onChange: (value: number | null) => void;
  /** Within which it makes sense, in words, and whether a value does. */
  bounds?: { words: string; holds: (value: number) => boolean };
  title?: string;
}

/** A number with its unit; empty means no limit or the usual value, as the placeholder says. */
export function NumberField({ label, unit, value, placeholder, onChange, bounds, title }: Props) {
  const [text, setText] = useState<string | null>(null);
  const id = useId();
  const shown = text ?? (value === null || value === undefined ? "" : String(value));
  const number = parse(shown);
  const strange = shown.trim() !== "" && number === null;
  const beyond = number !== null && bounds !== undefined && !bounds.holds(number);
  return (
    <Row label={label} htmlFor={id} title={beyond ? bounds.words : title}>
      <Entry
        id={id}
        figures
        inputMode="decimal"
        value={shown}
        unit={unit}
        placeholder={placeholder}
        bad={strange || beyond}
        onChange={(typed) => {
          setText(typed);
          if (typed.trim() === "") onChange(null);
          else if (parse(typed) !== null) onChange(parse(typed));
        }}
        onBlur={() => setText(strange ? text : null)}
      />
    </Row>
  );
}
