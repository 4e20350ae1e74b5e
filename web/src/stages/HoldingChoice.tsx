import type { Holding } from "../api/client";
import { Choice } from "../ui/Choice";

interface Props {
  label: string;
  holdings: Holding[];
  value: number | undefined;
  onChange: (id: number) => void;
}

/** A holding of one kind, by its name, where it is no input of an operation. */
export function HoldingChoice({ label, holdings, value, onChange }: Props) {
  return (
    <Choice
      label={label}
      value={value === undefined ? "" : String(value)}
      options={holdings.map((one) => ({ value: String(one.id), title: one.name }))}
      onChange={(id) => onChange(Number(id))}
    />
  );
}
