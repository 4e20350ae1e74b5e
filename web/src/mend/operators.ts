import { applies, OPERATIONS, type ParamsOf, type Property } from "../api/operations";

export type PatchContent = ParamsOf<"mend">["patches"][number];
export type KeepOutContent = ParamsOf<"mend">["keep_outs"][number];
export type Operator = PatchContent["operator"];
export type OperatorKind = Operator["kind"];

/** Operators in the order in which they stand: structures and ground first, then water, then what fits anywhere. Each with what it
 * does, and its profile: the ground before, and what becomes of it. */
export const OPERATORS: Record<OperatorKind, { title: string; does: string; before: string; after: string }> = {
  along: {
    title: "Along",
    does: "Smooths a bridge, a dam or an embankment along its length; its outline has square corners.",
    before: "M2 15 11 14 13 6 16 3 18 9 22 4 25 7 28 4 29 14 38 15",
    after: "M2 15 11 14 12 6 28 6 29 14 38 15",
  },
  smooth: {
    title: "Smooth",
    does: "Each cell becomes the median, the mean or a Gaussian mean of those around it.",
    before: "M2 12 7 8 11 13 16 6 21 12 26 5 31 10 38 5",
    after: "M2 11C12 10 16 9 22 9S32 7 38 6",
  },
  clear: {
    title: "Clear",
    does: "Takes away what stands on the ground: trees, houses, walls.",
    before: "M2 14 10 13Q12 3 15 5T20 12L25 11V4H31V10L38 9",
    after: "M2 14 20 12 38 9",
  },
  plane: {
    title: "Plane",
    does: "A plane or a surface of second degree through the cells inside or along the rim.",
    before: "M2 14 9 9 15 13 22 6 29 9 38 4",
    after: "M2 14 38 4",
  },
  height: {
    title: "Height",
    does: "One height.",
    before: "M2 13 10 8 17 12 25 6 31 10 38 7",
    after: "M2 9H38",
  },
  level: {
    title: "Level",
    does: "Levels a lake as high as its rim says.",
    before: "M2 4 9 11 14 8 19 12 24 9 30 11 38 4",
    after: "M2 4 9 11H31L38 4",
  },
  falling: {
    title: "Falling",
    does: "A river that never rises downstream; drawn along its line, or around it from bank to bank.",
    before: "M2 4 8 7 13 5 19 10 25 8 31 13 38 12",
    after: "M2 4 12 6 18 8.500 28 11 38 13",
  },
  across: {
    title: "Across",
    does: "From the rim across, by a thin plate or by facets.",
    before: "M2 12 10 9 15 3 21 8 25 4 30 8 38 11",
    after: "M2 12 10 9Q20 4.500 30 8L38 11",
  },
  replace: {
    title: "Replace",
    does: "Takes the heights of another surface, lifted and tilted to the rim.",
    before: "M2 12 12 11 17 5 24 4 28 9 38 8",
    after: "M2 12 12 11 18 13 24 12 28 9 38 8",
  },
  spikes: {
    title: "Spikes",
    does: "Takes away spikes and pits; hills stay.",
    before: "M2 12 10 11 12 2 14 11 24 9 26 16 28 9 38 7",
    after: "M2 12 10 11 14 10.500 24 9 38 7",
  },
  raise: {
    title: "Raise",
    does: "Raises or lowers by a height, and scales about one.",
    before: "M2 14 38 14",
    after: "M2 14H10V7H30V14H38",
  },
  sharpen: {
    title: "Sharpen",
    does: "Makes an edge sharp that was smeared over some cells; it is drawn along the edge.",
    before: "M2 14H12C18 14 22 4 28 4H38",
    after: "M2 14H20V4H38",
  },
  breach: {
    title: "Breach",
    does: "Opens a culvert along a line, falling from end to end.",
    before: "M2 13 12 12 17 4H23L28 12 38 14",
    after: "M2 12 38 14",
  },
};

export const KINDS = Object.keys(OPERATORS) as OperatorKind[];

const DEFINED = (OPERATIONS.mend.params as { $defs?: Record<string, { properties?: Record<string, Property> }> }).$defs;

/** What can be set of an operator, by name, beside its other settings. */
export function settingsOf(kind: OperatorKind, given?: Operator): [string, Property][] {
  const properties = DEFINED?.[kind[0]?.toUpperCase() + kind.slice(1)]?.properties ?? {};
  return Object.entries(properties).filter(
    ([name, property]) => name !== "kind" && (!given || applies(property, given as unknown as Record<string, unknown>)),
  );
}

/** What can be set of every patch. */
export const patchProperty = (name: keyof PatchContent): Property => {
  const property = DEFINED?.Patch?.properties?.[name];
  if (!property) throw new Error(`a patch has no ${name}`);
  return property;
};

/** An operator as it usually is; heights that must be given begin at the one that is given. */
export function usualOperator(kind: OperatorKind, height = 0): Operator {
  const set = settingsOf(kind).map(([name, property]) => [name, property.default ?? height]);
  return { kind, ...Object.fromEntries(set) } as Operator;
}

/** A new patch with an outline. */
export function newPatch(
  drawn: Pick<Partial<PatchContent>, "ring" | "line" | "width">,
  operator: Operator,
): PatchContent {
  return {
    name: OPERATORS[operator.kind].title,
    ring: null,
    line: null,
    width: 10,
    on: true,
    note: "",
    feather: 0,
    strength: 1,
    times: 1,
    over_keep_outs: false,
    ...drawn,
    operator,
  };
}
