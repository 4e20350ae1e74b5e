import type { Holding } from "../api/client";
import { num } from "../desk/format";
import { Check, Checks } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { useRole } from "./useRole";
import type { AnyWork } from "./useWorksheet";

const NOTHING = "none";

interface Props {
  work: AnyWork;
  /** The name of the role. */
  input: string;
  label?: string;
  /** What stands where nothing is chosen. */
  none?: string;
  likely?: (one: Holding) => boolean;
  /** Holdings that are not offered. */
  but?: (one: Holding) => boolean;
  /** When another one is chosen. */
  onChosen?: () => void;
}

/** What goes in for one role: a holding of its kind, one that may be left out, or several. */
export function RoleField({ work, input: name, label, none = "none", likely, but, onChosen }: Props) {
  const { role, usable, chosen } = useRole(work, name, likely);
  const offered = but ? usable.filter((one) => !but(one)) : usable;
  const title = label ?? role.title;
  const options = offered.map((one) => ({ value: String(one.id), title: one.name }));
  if (role.many && !role.optional) {
    const ids = work.ids(name);
    return (
      <Checks label={title} across={1}>
        {offered.map((one) => (
          <Check
            key={one.id}
            label={one.name}
            figure={one.cloud && num(one.cloud.count)}
            checked={ids.includes(one.id)}
            onChange={(on) => work.setInput(name, on ? [...ids, one.id] : ids.filter((id) => id !== one.id))}
          />
        ))}
      </Checks>
    );
  }
  if (role.optional) {
    if (!offered.length) return null;
    return (
      <Choice
        label={title}
        value={String(work.ids(name)[0] ?? NOTHING)}
        options={[{ value: NOTHING, title: none }, ...options]}
        onChange={(next) => work.setInput(name, next === NOTHING ? [] : [Number(next)])}
      />
    );
  }
  return (
    <Choice
      label={title}
      value={chosen ? String(chosen.id) : ""}
      options={options}
      onChange={(next) => {
        work.setInput(name, Number(next));
        onChosen?.();
      }}
    />
  );
}
