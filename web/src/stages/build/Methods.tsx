import type { ReactNode } from "react";
import { choicesOf, propertyOf } from "../../api/operations";
import { capital } from "../../desk/format";
import { MethodIcon } from "../../desk/icons";
import { Card } from "../../ui/Radio";
import type { AnyWork } from "../useWorksheet";

interface Props {
  work: AnyWork;
  /** The parameter that is chosen. */
  name: string;
  across?: number;
  icon?: (value: string) => ReactNode;
  onChosen?: (value: string) => void;
}

/** A choice among the values of a parameter, each with a drawing of what it does and one line on it. */
export function Methods({ work, name, across, icon, onChosen }: Props) {
  const { title, hints } = propertyOf(work.operation, name);
  const choices = choicesOf(work.operation, name);
  const columns = across ?? (choices.length === 2 ? 2 : 3);
  const chosen = String(work.params[name]);
  return (
    <>
      <div
        className="methods"
        role="radiogroup"
        aria-label={title}
        data-across={columns}
        style={columns === 3 && !icon ? undefined : { gridTemplateColumns: `repeat(${columns}, 1fr)` }}
      >
        {choices.map(({ value, title: called }) => (
          <Card
            className="mt"
            key={value}
            title={hints?.[value]}
            group={title}
            checked={chosen === value}
            onChoose={() => {
              work.setParams({ [name]: value });
              onChosen?.(value);
            }}
          >
            {icon ? icon(value) : <MethodIcon method={value} />}
            <span>{capital(called)}</span>
          </Card>
        ))}
      </div>
      {icon && <p className="hint">{hints?.[chosen]}</p>}
    </>
  );
}
