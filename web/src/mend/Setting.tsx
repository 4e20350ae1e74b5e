import { boundsOf, type Property } from "../api/operations";
import { Check } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { NumberField } from "../ui/NumberField";

/** One setting of an operator, drawn from its description. */
export function Setting({
  property,
  value,
  onChange,
}: {
  property: Property;
  value: unknown;
  onChange: (value: never) => void;
}) {
  const told = { label: property.title, title: property.description };
  if (property.type === "boolean")
    return <Check {...told} checked={value === true} onChange={(on) => onChange(on as never)} />;
  if (property.enum)
    return (
      <Choice
        {...told}
        value={String(value)}
        options={property.enum.map((one) => ({
          value: String(one),
          title: property.titles?.[String(one)] ?? String(one),
        }))}
        onChange={(next) => onChange(next as never)}
      />
    );
  return (
    <NumberField
      {...told}
      unit={property.unit}
      value={value as number}
      placeholder={String(property.default ?? "")}
      bounds={boundsOf(property)}
      onChange={(next) => {
        const number = next ?? (property.default as number | undefined);
        if (number !== undefined && (boundsOf(property)?.holds(number) ?? true)) onChange(number as never);
      }}
    />
  );
}
