import { useId, useState } from "react";
import { parse } from "../desk/format";
import { Entry } from "./Entry";
import { Row } from "./Row";

interface Props {
  label: string;
  unit?: string;
  value: number[];
  onChange: (values: number[]) => void;
  title?: string;
}

/** Numbers of a text with blanks or semicolons between them; null where one of them is none. */
export function numbersIn(typed: string): number[] | null {
  const parts = typed.split(/[;\s]+|,\s+/).filter(Boolean);
  const numbers = parts.map(parse);
  return parts.length && numbers.every((one) => one !== null) ? (numbers as number[]) : null;
}

/** Several numbers on one line. */
export function NumbersField({ label, unit, value, onChange, title }: Props) {
  const [text, setText] = useState<string | null>(null);
  const id = useId();
  const shown = text ?? value.join(" ");
  const bad = numbersIn(shown) === null;
  return (
    <Row label={label} htmlFor={id} title={title}>
      <Entry
        id={id}
        value={shown}
        unit={unit}
        bad={bad}
        onChange={(typed) => {
          setText(typed);
          const numbers = numbersIn(typed);
          if (numbers) onChange(numbers);
        }}
        onBlur={() => setText(bad ? text : null)}
      />
    </Row>
  );
}
