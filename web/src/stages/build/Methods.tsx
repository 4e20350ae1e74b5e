import type { ReactNode } from "react";
import { choicesOf, propertyOf } from "../../api/operations";
import { capital } from "../../desk/format";
import { MethodIcon } from "../../desk/icons";
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
          <label className="mt" key={value} title={hints?.[value]}>
            <input
              type="radio"
              name={title}
              checked={chosen === value}
              onChange={() => {
                work.setParams({ [name]: value });
                onChosen?.(value);
              }}
            />
            {icon ? icon(value) : <MethodIcon method={value} />}
            <span>{capital(called)}</span>
          </label>
        ))}
      </div>
      {icon && <p className="hint">{hints?.[chosen]}</p>}
    </>
  );
}
