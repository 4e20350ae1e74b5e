import { OPERATIONS } from "../api/operations";
import { Choice } from "../ui/Choice";
import type { AnyWork } from "./useWorksheet";

interface Props {
  work: AnyWork;
  /** Outputs that are not offered, unless one is looked at. */
  but?: string[];
  onChosen?: (output: string | null) => void;
}

/** What is looked at, and made beside what is always made. */
export function OutputChoice({ work, but = [], onChosen }: Props) {
  const [first, ...others] = Object.entries(OPERATIONS[work.operation].outputs);
  const asked = others.filter(([name, { when }]) => when === "asked" && (!but.includes(name) || name === work.output));
  if (!first || !asked.length) return null;
  return (
    <Choice
      label="Gives"
      value={work.output ?? first[0]}
      options={[
        { value: first[0], title: first[1].title },
        ...asked.map(([value, { title }]) => ({ value, title: `${title}, too` })),
      ]}
      onChange={(next) => {
        const output = next === first[0] ? null : next;
        work.setOutput(output);
        onChosen?.(output);
      }}
    />
  );
}
