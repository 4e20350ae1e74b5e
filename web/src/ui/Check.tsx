import { Checkbox } from "@mui/material";
import { type ReactNode, useId } from "react";
import styles from "./check.module.css";

const box = (
  <svg viewBox="0 0 13 13" aria-hidden="true">
    <rect x="0.5" y="0.5" width="12" height="12" rx="2.5" fill="#fff" stroke="currentColor" />
  </svg>
);
const checked = (
  <svg viewBox="0 0 13 13" aria-hidden="true">
    <rect width="13" height="13" rx="3" fill="currentColor" />
    <path d="M3 6.500 5.500 9 10 4" fill="none" stroke="#fff" strokeWidth="1.6" />
  </svg>
);

/** A box alone, where its label is read only. */
export const Tick = (props: { label: string; checked: boolean; onChange: (checked: boolean) => void }) => (
  <Checkbox
    icon={box}
    checkedIcon={checked}
    checked={props.checked}
    onChange={(event) => props.onChange(event.target.checked)}
    slotProps={{ input: { "aria-label": props.label } }}
  />
);

interface Props {
  label: ReactNode;
  checked: boolean;
  onChange: (checked: boolean) => void;
  /** A figure at the end of the line. */
  figure?: ReactNode;
  title?: string;
}

/** A thing that holds or does not, with its label behind the box. */
export function Check({ label, checked: on, onChange, figure, title }: Props) {
  const id = useId();
  return (
    <label className={styles.ck} htmlFor={id} title={title}>
      <Checkbox
        id={id}
        icon={box}
        checkedIcon={checked}
        checked={on}
        onChange={(event) => onChange(event.target.checked)}
      />
      <span>{label}</span>
      {figure !== undefined && <span className="n">{figure}</span>}
    </label>
  );
}

/** Several checks, in two columns where they are short. `across` is the number of columns. */
export function Checks({ label, across = 2, children }: { label: string; across?: 1 | 2; children: ReactNode }) {
  return (
    <div className={styles.checks} role="group" aria-label={label} data-across={across}>
      {children}
    </div>
  );
}
