import { Switch } from "@mui/material";
import { type ReactNode, useId } from "react";
import styles from "./toggle.module.css";

/** Something that is on or off at once. */
export function Toggle(props: { label: ReactNode; checked: boolean; onChange: (checked: boolean) => void }) {
  const id = useId();
  return (
    <label className={styles.sw} htmlFor={id}>
      <Switch
        id={id}
        checked={props.checked}
        onChange={(event) => props.onChange(event.target.checked)}
        slotProps={{ input: { role: "switch", "aria-checked": props.checked } }}
      />
      {props.label}
    </label>
  );
}
