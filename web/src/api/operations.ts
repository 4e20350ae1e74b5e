import CATALOGUE from "./operations.json";
import type { components } from "./schema";

type Schemas = components["schemas"];

/** Names of all operations; their parameters, with those that are left at their defaults; and their roles. */
export type OperationName = keyof Schemas["OperationParams"] & keyof typeof CATALOGUE;
export type ParamsOf<N extends OperationName> = Schemas["OperationParams"][N];
export type RoleOf<N extends OperationName> = keyof (typeof CATALOGUE)[N]["inputs"] & string;

export type Role = Schemas["RoleOut"];

/** What the schema of a parameter tells; see `Params.described`. */
export interface Property {
  title: string;
  description?: string;
  default?: unknown;
  type?: string;
  enum?: (string | number)[];
  items?: Property;
  anyOf?: Partial<Property>[];
  maxLength?: number;
  maxItems?: number;
  minimum?: number;
  maximum?: number;
  exclusiveMinimum?: number;
  exclusiveMaximum?: number;
  unit?: string;
  titles?: Record<string, string>;
  hints?: Record<string, string>;
  unset?: string;
  only_with?: Record<string, (string | boolean)[]>;
}

export interface Operation extends Omit<Schemas["OperationOut"], "params"> {
  params: { properties?: Record<string, Property> };
}

/** The catalogue, as this version of the server has it. */
export const OPERATIONS = CATALOGUE as unknown as Record<OperationName, Operation>;

export const isOperation = (name: string | null): name is OperationName => name !== null && name in OPERATIONS;

/** The parameters of an operation by name. */
export const propertiesOf = (name: OperationName): Record<string, Property> => OPERATIONS[name].params.properties ?? {};

/** What a parameter is where it is given: what may be empty is told by its other kind. */
export function propertyOf(operation: OperationName, name: string): Property {
  const property = propertiesOf(operation)[name];
  if (!property) throw new Error(`${operation} has no parameter ${name}`);
  const given = property.anyOf?.find((one) => one.type !== "null");
  return { ...given, ...property };
}

/** Parameters as they are where nobody sets them. */
export const usual = (name: OperationName): Record<string, unknown> =>
  Object.fromEntries(Object.entries(propertiesOf(name)).map(([key, one]) => [key, one.default]));

/** Whether a parameter has a meaning beside the others. */
export const applies = (property: Property, params: Record<string, unknown>): boolean =>
  Object.entries(property.only_with ?? {}).every(([other, values]) =>
    values.includes(params[other] as string | boolean),
  );

/** The values of a choice with their titles, in the order people read them. */
export function choicesOf(operation: OperationName, name: string): { value: string; title: string }[] {
  const { titles, enum: values = [] } = propertyOf(operation, name);
  if (titles) return Object.entries(titles).map(([value, title]) => ({ value, title }));
  return values.map((value) => ({ value: String(value), title: String(value).replaceAll("_", " ") }));
}

/** The bounds of a number, in words and as a test. */
export function boundsOf(property: Property): { words: string; holds: (value: number) => boolean } | undefined {
  const { minimum: from, exclusiveMinimum: above, maximum: to, exclusiveMaximum: below } = property;
  const words = [
    from !== undefined && `from ${from}`,
    above !== undefined && `above ${above}`,
    to !== undefined && `up to ${to}`,
    below !== undefined && `below ${below}`,
  ].filter(Boolean);
  if (!words.length) return undefined;
  return {
    words: `${property.title}: ${words.join(", ")}${property.unit ? ` ${property.unit}` : ""}.`,
    holds: (value) =>
      !(
        (from !== undefined && value < from) ||
        (above !== undefined && value <= above) ||
        (to !== undefined && value > to) ||
        (below !== undefined && value >= below)
      ),
  };
}
