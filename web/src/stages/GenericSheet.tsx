import { useEffect } from "react";
import type { Operation } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { shortUnit, size } from "../desk/format";
import type { Stage } from "../desk/store";
import { Choice, Findings, HoldingChoice, NameRow, NumberField, Section, Sheet } from "./parts";
import { RunFoot } from "./RunFoot";
import { useWorksheet } from "./useWorksheet";

interface Property {
  type?: string;
  enum?: string[];
  default?: unknown;
  unit?: string;
  description?: string;
  anyOf?: { type?: string }[];
}

const words = (name: string) => {
  const text = name.replaceAll("_", " ");
  return text.charAt(0).toUpperCase() + text.slice(1);
};

/** The plain worksheet that follows from an operation's description. */
export function GenericSheet({ operation }: { operation: Operation }) {
  const project = useProject();
  const { surfaces, points, a, b } = useHeld();
  const roles = Object.entries(operation.inputs);
  const work = useWorksheet(
    operation.name,
    roles.map(([role]) => role),
  );
  const { inputs, setInput } = work;
  useEffect(() => {
    roles.forEach(([role, { kind }], i) => {
      if (inputs[role] !== undefined || kind !== "surface") return;
      const likely = [a, b][i];
      if (likely) setInput(role, likely.id);
    });
  });
  const properties = Object.entries((operation.params.properties ?? {}) as Record<string, Property>);
  const names = roles.map(([role]) => [...surfaces, ...points].find((one) => one.id === inputs[role])?.name ?? "");
  const name =
    work.sheet.name || (operation.name === "difference" ? names.join(" minus ") : `${operation.title} of ${names[0]}`);
  return (
    <Sheet
      stage={operation.stage as Stage}
      title={operation.title}
      lead={operation.summary}
      foot={<RunFoot work={work} name={name} canBeLive />}
    >
      <Section title="What goes in">
        {roles.map(([role, { kind, title }]) => (
          <HoldingChoice
            key={role}
            label={title.replace(" surface", "")}
            holdings={kind === "points" ? points : surfaces}
            value={inputs[role] as number | undefined}
            onChange={(id) => setInput(role, id)}
          />
        ))}
      </Section>
      <Section title="How">
        {properties.map(([key, property]) =>
          property.enum ? (
            <Choice
              key={key}
              label={words(key)}
              value={String(work.params[key] ?? property.default)}
              options={property.enum.map((value) => ({ value, title: words(value) }))}
              onChange={(value) => work.setParams({ [key]: value })}
            />
          ) : (
            <div key={key} title={property.description}>
              <div className="row two">
                <NumberField
                  label={words(key)}
                  unit={property.unit}
                  value={(work.params[key] ?? property.default) as number | null}
                  onChange={(value) => work.setParams({ [key]: value })}
                />
              </div>
            </div>
          ),
        )}
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
        {operation.name === "difference" && (
          <p className="mut" style={{ fontSize: 12, lineHeight: "16px", marginTop: 6 }}>
            On the frame's cells of {size(project.frame.cell_size)} m, in {shortUnit(project.frame.unit)}.
          </p>
        )}
      </Section>
      <Findings findings={work.findings} onFix={work.setParams} />
    </Sheet>
  );
}
