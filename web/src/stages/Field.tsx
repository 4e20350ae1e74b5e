import type { ReactNode } from "react";
import { applies, boundsOf, choicesOf, OPERATIONS, propertyOf } from "../api/operations";
import { useProject } from "../desk/context";
import { size } from "../desk/format";
import { HOLLOW_PICTURES } from "../drain/HollowPictures";
import type { Place } from "../map/shapes";
import { Check } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { NumberField } from "../ui/NumberField";
import { NumbersField } from "../ui/NumbersField";
import { Pictured } from "../ui/Pictured";
import { TextField } from "../ui/TextField";
import { PlacesField } from "./PlacesField";
import type { AnyWork } from "./useWorksheet";

const UNSET = "unset";
/** Choices that are drawn, by stage and parameter. */
const PICTURES: Record<string, Record<string, ReactNode>> = { "Drain method": HOLLOW_PICTURES };

interface Props {
  work: AnyWork;
  name: string;
  /** Instead of what the parameter's description says. */
  label?: string;
  unit?: string;
  placeholder?: string;
  /** What is set besides, or instead, where it changes. */
  also?: (value: unknown) => Record<string, unknown>;
}

/** Whether a parameter has a meaning with the others as they are. */
export const isFor = (work: AnyWork, name: string): boolean => applies(propertyOf(work.operation, name), work.params);

/** One parameter of an operation, drawn from its description: a check, a choice, a number, several, or text. */
export function Field({ work, name, label, unit, placeholder, also }: Props) {
  const { frame } = useProject();
  const property = propertyOf(work.operation, name);
  if (!applies(property, work.params)) return null;
  const value = work.params[name];
  const set = (next: unknown) => work.setParams({ [name]: next, ...also?.(next) });
  const told = { label: label ?? property.title, title: property.description };
  const empty =
    placeholder ?? (property.unset === "the frame's" ? `${size(frame.cell_size)}, the frame's` : property.unset);
  if (property.type === "boolean")
    return <Check label={told.label} title={told.title} checked={value === true} onChange={set} />;
  if (property.enum) {
    const options = choicesOf(work.operation, name);
    // where it is not given it means one of the values, or something that has a word of its own
    const means = property.unset ?? UNSET;
    const offered =
      options.some((one) => one.value === means) || !property.unset
        ? options
        : [{ value: UNSET, title: means }, ...options];
    const unset = offered === options ? means : UNSET;
    const pictures = PICTURES[`${OPERATIONS[work.operation].stage} ${name}`];
    if (pictures)
      return (
        <Pictured
          label={told.label}
          value={String(value)}
          options={options.map((one) => ({ ...one, hint: property.hints?.[one.value] }))}
          pictures={pictures}
          onChange={set}
        />
      );
    return (
      <Choice
        {...told}
        value={value === null || value === undefined ? unset : String(value)}
        options={offered}
        onChange={(next) => set(next === UNSET ? null : (property.enum?.find((one) => String(one) === next) ?? next))}
      />
    );
  }
  if (property.type === "array" && property.items?.type === "number")
    return <NumbersField {...told} unit={unit ?? property.unit} value={(value as number[]) ?? []} onChange={set} />;
  if (property.type === "array" && property.items?.type === "array")
    return <PlacesField {...told} value={(value as Place[]) ?? []} most={property.maxItems ?? 100} onChange={set} />;
  if (property.type === "string")
    return (
      <TextField
        {...told}
        value={(value as string | null) ?? ""}
        placeholder={empty}
        maxLength={property.maxLength}
        onChange={(text) => set(text || null)}
      />
    );
  return (
    <NumberField
      {...told}
      unit={unit ?? property.unit}
      value={value as number | null}
      placeholder={empty ?? String(property.default ?? "")}
      bounds={boundsOf(property)}
      onChange={set}
    />
  );
}
