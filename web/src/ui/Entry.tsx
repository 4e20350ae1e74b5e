import { InputBase } from "@mui/material";
import type { HTMLAttributes } from "react";

interface Props {
  id: string;
  value: string;
  onChange: (text: string) => void;
  onBlur?: () => void;
  onEnter?: () => void;
  placeholder?: string;
  unit?: string;
  bad?: boolean;
  /** Numbers are set in the face of figures. */
  figures?: boolean;
  maxLength?: number;
  /** The id of a list of proposals. */
  list?: string;
  inputMode?: HTMLAttributes<HTMLInputElement>["inputMode"];
  label?: string;
}

/** Where something is typed: one line, with its unit at the end. */
export function Entry({ id, value, onChange, onBlur, onEnter, unit, bad = false, figures, ...rest }: Props) {
  const { placeholder, maxLength, list, inputMode, label } = rest;
  return (
    <InputBase
      id={id}
      className={`field ${bad ? "bad" : ""}`}
      value={value}
      placeholder={placeholder}
      onChange={(event) => onChange(event.target.value)}
      onBlur={onBlur}
      onKeyDown={(event) => event.key === "Enter" && onEnter?.()}
      endAdornment={unit && <span className="u">{unit}</span>}
      inputProps={{
        className: figures ? "" : "text",
        maxLength,
        list,
        inputMode,
        "aria-label": label,
        "aria-invalid": bad,
      }}
    />
  );
}
