import { InputBase } from "@mui/material";
import type { HTMLAttributes, Ref } from "react";
import styles from "./entry.module.css";

interface Props {
  id?: string;
  value: string;
  onChange?: (text: string) => void;
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
  /** How many lines are seen, where there may be several. */
  lines?: number;
  /** All of it is chosen as soon as it is entered, to be copied or typed over. */
  whole?: boolean;
  /** Shown to be copied, not changed. */
  readOnly?: boolean;
  spellCheck?: boolean;
  input?: Ref<HTMLInputElement | HTMLTextAreaElement>;
}

/** Where something is typed, with its unit at the end. */
export function Entry(props: Props) {
  const { id, value, onChange, onBlur, onEnter, unit, bad = false, figures, lines, whole, input, ...rest } = props;
  const { placeholder, maxLength, list, inputMode, label, readOnly, spellCheck } = rest;
  return (
    <InputBase
      id={id}
      className={`field ${bad ? styles.bad : ""} ${lines ? "several" : ""}`}
      value={value}
      placeholder={placeholder}
      readOnly={readOnly}
      multiline={lines !== undefined}
      rows={lines}
      inputRef={input}
      onChange={(event) => onChange?.(event.target.value)}
      onFocus={(event) => whole && event.target.select()}
      onBlur={onBlur}
      onKeyDown={(event) => event.key === "Enter" && onEnter?.()}
      endAdornment={unit && <span className={styles.u}>{unit}</span>}
      inputProps={{
        className: figures ? "" : "text",
        maxLength,
        list,
        inputMode,
        spellCheck,
        "aria-label": label,
        "aria-invalid": bad,
      }}
    />
  );
}
