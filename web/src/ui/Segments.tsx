import { useId } from "react";
import { Card } from "./Radio";

interface Props<V extends string> {
  label: string;
  value: V;
  options: { value: V; title: string; hint?: string }[];
  onChange: (value: V) => void;
}

/** A choice among a few words that stand side by side. */
export function Segments<V extends string>({ label, value, options, onChange }: Props<V>) {
  const group = useId();
  return (
    <span className="seg" role="radiogroup" aria-label={label}>
      {options.map((one) => (
        <Card
          key={one.value}
          className=""
          title={one.hint}
          group={group}
          checked={one.value === value}
          onChoose={() => onChange(one.value)}
        >
          {one.title}
        </Card>
      ))}
    </span>
  );
}
