import { isValidElement, type ReactElement, type ReactNode, useState } from "react";
import { OPERATIONS, type OperationName, type ParamsOf, propertiesOf, type RoleOf } from "../api/operations";
import type { Stage } from "../desk/store";
import { Fold, type Sign } from "../ui/Fold";
import { NameRow } from "../ui/NameRow";
import { Section, Sheet } from "../ui/Sheet";
import { Field, isFor } from "./Field";
import { Findings } from "./Findings";
import { OutputChoice } from "./OutputChoice";
import { RoleField } from "./RoleField";
import { RunFoot, type RunFootProps } from "./RunFoot";
import { useRole } from "./useRole";
import type { AnyWork, Work } from "./useWorksheet";

/** What a section of a worksheet holds: a parameter by name, a role as `in:name`, the output, the name, or something special. */
export type Item<N extends OperationName> =
  | (keyof ParamsOf<N> & string)
  | `in:${RoleOf<N>}`
  | "output"
  | "name"
  | ReactElement
  | false
  | null
  | undefined;

export interface Part<N extends OperationName> {
  title: string;
  aside?: ReactNode;
  of: Item<N>[];
  /** How far it is, where it folds; and what is said of it then. */
  sign?: Sign;
  told?: ReactNode;
}

const MISSING = {
  surface: "No surface yet. Add or order tiles in Gather, or make one in Build.",
  points: "No points yet. Add a CSV of points in Gather first.",
  cloud: "No point cloud yet. Add LAS or LAZ files in Gather.",
  features: "No lines yet. Add them in Gather: a shapefile in a zip, a GeoPackage or a DXF.",
  image: "No image yet. Add image files in Gather.",
  table: "No table yet.",
};

/** Names of things beside parameters. */
const OTHERS = /^(in:|output$|name$)/;

const keyOf = (item: string | ReactElement): string => (typeof item === "string" ? item : String(item.key));

/** One thing of a section. */
function Drawn({ work, item, name }: { work: AnyWork; item: string | ReactElement; name: string }) {
  if (typeof item !== "string") return item;
  if (item === "output") return <OutputChoice work={work} />;
  if (item === "name") return <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />;
  if (item.startsWith("in:")) return <RoleField work={work} input={item.slice(3)} />;
  return <Field work={work} name={item} />;
}

/** The sections of an operation that has no worksheet of its own. */
export function usualParts(operation: OperationName): Part<OperationName>[] {
  const roles = Object.keys(OPERATIONS[operation].inputs).map((role) => `in:${role}`);
  return [
    { title: "What goes in", of: roles as Item<OperationName>[] },
    { title: "How", of: [...Object.keys(propertiesOf(operation)), "output", "name"] as Item<OperationName>[] },
  ];
}

interface Props<N extends OperationName> {
  work: Work<N>;
  /** What the result is called where nobody types a name. */
  name: string;
  parts?: Part<N>[];
  lead?: string;
  /** Where what must go in is missing: what to do, instead of what is said for its kind. */
  missing?: string;
  findings?: Work<N>["findings"];
  onFix?: (change: Record<string, unknown>) => void;
  /** What its foot says otherwise, or another one. */
  foot?: Omit<RunFootProps, "work" | "name"> | ReactElement;
  /** What stands below the sections: what came out. */
  after?: ReactNode;
}

/** The worksheet of an operation, drawn from its description, with what is special to it in between. */
export function OperationSheet<N extends OperationName>(props: Props<N>) {
  const work = props.work as unknown as AnyWork;
  const { title, stage, inputs } = OPERATIONS[work.operation];
  const [first = "", { kind } = { kind: "surface" as const }] = Object.entries(inputs)[0] ?? [];
  const { usable } = useRole(work, first);
  const [folded, setFolded] = useState<Record<string, boolean>>({});
  if (!usable.length)
    return (
      <Sheet stage={stage as Stage} title={title}>
        <p className="remark">{props.missing ?? MISSING[kind]}</p>
      </Sheet>
    );
  const parts = (props.parts ?? usualParts(work.operation)) as Part<OperationName>[];
  // the first part that is not settled stands open until somebody opens or folds it
  const next = parts.findIndex((part) => part.sign === "open");
  return (
    <Sheet
      stage={stage as Stage}
      title={title}
      lead={props.lead}
      foot={
        isValidElement(props.foot) ? (
          props.foot
        ) : (
          <RunFoot
            work={work}
            name={work.sheet.name || props.name}
            {...(props.foot as Omit<RunFootProps, "work" | "name">)}
          />
        )
      }
    >
      {parts.map((part, i) => {
        const of = part.of.filter(
          (item): item is Exclude<typeof item, false | null | undefined> =>
            Boolean(item) && (typeof item !== "string" || OTHERS.test(item) || isFor(work, item)),
        );
        if (!of.length) return null;
        const drawn = (of as (string | ReactElement)[]).map((item) => (
          <Drawn key={keyOf(item)} work={work} item={item} name={props.name} />
        ));
        if (!part.sign)
          return (
            <Section key={part.title} title={part.title} aside={part.aside}>
              {drawn}
            </Section>
          );
        return (
          <Fold
            key={part.title}
            title={part.title}
            aside={part.aside}
            told={part.told}
            sign={part.sign}
            open={folded[part.title] ?? i === next}
            onOpen={(open) => setFolded({ ...folded, [part.title]: open })}
          >
            {drawn}
          </Fold>
        );
      })}
      {props.after}
      <Findings findings={props.findings ?? work.findings} onFix={props.onFix ?? work.setParams} />
    </Sheet>
  );
}
