import { type ReactNode, useId } from "react";
import styles from "./pictured.module.css";
import { Card } from "./Radio";

interface Props {
  label: string;
  value: string;
  options: { value: string; title: string; hint?: string }[];
  pictures: Record<string, ReactNode>;
  onChange: (value: string) => void;
}

/** A choice among a few ways that are drawn, each with its name below. */
export function Pictured({ label, value, options, pictures, onChange }: Props) {
  const group = useId();
  return (
    <div className={styles.cards} role="radiogroup" aria-label={label}>
      {options.map((one) => (
        <Card
          key={one.value}
          className={styles.card ?? ""}
          title={one.hint}
          group={group}
          checked={one.value === value}
          onChoose={() => onChange(one.value)}
        >
          {pictures[one.value]}
          <span>{one.title}</span>
        </Card>
      ))}
    </div>
  );
}
