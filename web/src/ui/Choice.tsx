import { MenuItem, Select } from "@mui/material";
import { useId } from "react";
import styles from "./choice.module.css";
import { Row } from "./Row";

export interface Option {
  value: string;
  title: string;
}

interface Props {
  label: string;
  value: string;
  options: Option[];
  onChange: (value: string) => void;
  /** What stands there where nothing is chosen yet. */
  empty?: string;
  title?: string;
}

/** A choice from a list, on one row with its label. */
export function Choice({ label, value, options, onChange, empty = "choose", title }: Props) {
  const id = useId();
  const known = options.some((option) => option.value === value);
  return (
    <Row label={label} id={id} title={title}>
      <span className={`field ${styles.selecting}`}>
        <Select
          variant="standard"
          disableUnderline
          fullWidth
          displayEmpty
          value={known ? value : ""}
          onChange={(event) => onChange(event.target.value)}
          inputProps={{ "aria-label": label }}
        >
          {!known && (
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
    </Row>
  );
}
