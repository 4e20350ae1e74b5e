import type { ReactNode } from "react";
import { MethodIcon } from "../../desk/icons";

/** A choice among methods, each with a drawing of what it does: value, label, and one line on it. */
export function Methods(props: {
  label?: string;
  across?: number;
  icon?: (method: string) => ReactNode;
  methods: [string, string, string][];
  value: string;
  onChange: (method: string) => void;
}) {
  const across = props.across ?? (props.methods.length === 2 ? 2 : 3);
  return (
    <div
      className="methods"
      role="radiogroup"
      aria-label={props.label ?? "Method"}
      data-across={across}
      style={across === 3 && !props.icon ? undefined : { gridTemplateColumns: `repeat(${across}, 1fr)` }}
    >
      {props.methods.map(([value, label, hint]) => (
        <label className="mt" key={value} title={hint}>
          <input
            type="radio"
            name={props.label ?? "Method"}
            checked={props.value === value}
            onChange={() => props.onChange(value)}
          />
          {props.icon ? props.icon(value) : <MethodIcon method={value} />}
          <span>{label}</span>
        </label>
      ))}
    </div>
  );
}
