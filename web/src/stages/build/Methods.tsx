import { MethodIcon } from "../../desk/icons";

/** A choice among methods, each with a drawing of what it does: value, label, and one line on it. */
export function Methods(props: {
  methods: [string, string, string][];
  value: string;
  onChange: (method: string) => void;
}) {
  return (
    <div
      className="methods"
      role="radiogroup"
      aria-label="Method"
      style={props.methods.length === 2 ? { gridTemplateColumns: "1fr 1fr" } : undefined}
    >
      {props.methods.map(([value, label, hint]) => (
        <label className="mt" key={value} title={hint}>
          <input type="radio" name="method" checked={props.value === value} onChange={() => props.onChange(value)} />
          <MethodIcon method={value} />
          <span>{label}</span>
        </label>
      ))}
    </div>
  );
}
