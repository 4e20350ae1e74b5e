import type { components } from "../api/schema";

/** Demands as the service takes them, by kind. */
export type Demand = components["schemas"]["BriefIn"]["demands"] extends (infer One)[] | undefined ? One : never;
export type DemandKind = NonNullable<Demand["kind"]>;
/** What is set of a demand while it is edited: some of it may be missing still. */
export type Settings = { kind: DemandKind } & Record<string, unknown>;

export const KINDS: { value: DemandKind; title: string; begin: Record<string, unknown> }[] = [
  { value: "error", title: "errors at checkpoints", begin: { figure: "le95", covers: [], called: "" } },
  { value: "holes", title: "no hole inside an area", begin: { column: "", value: "", label: "" } },
  { value: "area", title: "heights all over an area", begin: { column: "", value: "", label: "", share: 100 } },
  { value: "level", title: "a lake lies level", begin: { column: "", value: "", label: "", within: 0.05 } },
  { value: "falling", title: "a river falls", begin: { column: "", value: "", label: "", within: 0.1 } },
  { value: "datum", title: "what zero means", begin: { within: null } },
  { value: "cells", title: "cell size", begin: {} },
  { value: "format", title: "format", begin: { format: "tif" } },
];

/** Whether all that it needs is set; the service says what is wrong with the rest. */
export function isWhole({ kind, ...set }: Settings): boolean {
  if (kind === "error") return set.within !== undefined && set.within !== null;
  if (kind === "datum") return Boolean((set.datum as string | undefined)?.trim());
  if (kind === "cells") return set.size !== undefined && set.size !== null;
  if (kind === "format") return true;
  return set.features !== undefined && (!set.column || Boolean(set.value));
}

/**
 * Within how many metres the brief wants 95 % of the errors where something covers the ground, or all over where no cover is
 * named; undefined where it does not say. The narrowest of several counts.
 */
export function limitOf(demands: { content: Record<string, unknown> }[], cover?: string): number | undefined {
  const found = demands.flatMap(({ content }) => {
    const covers = (content.covers as string[] | undefined) ?? [];
    const speaks = content.kind === "error" && content.figure === "le95";
    return speaks && (cover === undefined ? !covers.length : covers.includes(cover)) ? [content.within as number] : [];
  });
  return found.length ? Math.min(...found) : cover === undefined ? undefined : limitOf(demands);
}

/** The limit that is shown for all places: that for all of them, or else the first that there is, and where it counts. */
export function shownLimit(demands: { content: Record<string, unknown> }[]) {
  const everywhere = limitOf(demands);
  if (everywhere !== undefined) return { within: everywhere, where: "" };
  const first = demands.find(({ content }) => content.kind === "error" && content.figure === "le95")?.content;
  if (!first) return undefined;
  const covers = (first.covers as string[] | undefined) ?? [];
  return { within: first.within as number, where: (first.called as string) || covers.join(", ") };
}
