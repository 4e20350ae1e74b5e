export type Attributes = Record<string, string | number | boolean | null | undefined>;
export type Test = (row: Attributes) => boolean;

/** A condition that cannot be read: what is wrong, and at which letter, counted from 1. */
export class ConditionError extends Error {
  constructor(
    message: string,
    readonly at: number,
  ) {
    super(`${message} (at letter ${at})`);
  }
}

const SIGNS = ["<=", ">=", "!=", "=", "<", ">", "contains", "is empty"] as const;
type Sign = (typeof SIGNS)[number];

/** Whether a text is meant as a condition, not as words to look for. */
export const isCondition = (text: string): boolean => /[=<>]|\bcontains\b|\bis empty\b/i.test(text);

function compare(column: string, sign: Sign, wanted: string, quoted: boolean): Test {
  const number = Number(wanted.replace(",", "."));
  const numeric = !quoted && wanted !== "" && Number.isFinite(number);
  const equal: Test = (row) => {
    const held = row[column];
    return numeric && typeof held === "number" ? held === number : String(held ?? "") === wanted;
  };
  const order = (test: (difference: number) => boolean): Test => {
    return (row) => {
      const held = row[column];
      if (held === null || held === undefined || held === "") return false;
      if (numeric) return typeof held === "number" && test(held - number);
      return test(String(held) < wanted ? -1 : String(held) > wanted ? 1 : 0);
    };
  };
  switch (sign) {
    case "=":
      return equal;
    case "!=":
      return (row) => !equal(row);
    case "<":
      return order((difference) => difference < 0);
    case ">":
      return order((difference) => difference > 0);
    case "<=":
      return order((difference) => difference <= 0);
    case ">=":
      return order((difference) => difference >= 0);
    case "contains":
      return (row) =>
        String(row[column] ?? "")
          .toLowerCase()
          .includes(wanted.toLowerCase());
    case "is empty":
      return (row) => String(row[column] ?? "") === "";
  }
}

/**
 * A condition on attributes: `width > 3 and (kind = river or name contains "Avel")`, with `and`, `or`, `not`, brackets,
 * and `column is empty`. Numbers may have a decimal comma. Throws ConditionError.
 */
export function condition(text: string, columns: string[]): Test {
  const known = [...columns].sort((one, other) => other.length - one.length);
  let at = 0;
  const skip = () => {
    while (/\s/.test(text[at] ?? "")) at += 1;
  };
  const word = (wanted: string): boolean => {
    skip();
    const letters = /\w$/.test(wanted) ? `${wanted}(?![\\w])` : wanted.replace(/[()]/g, "\\$&");
    const found = new RegExp(`^${letters}`, "i").exec(text.slice(at));
    if (found) at += found[0].length;
    return Boolean(found);
  };
  const quotedText = (): string | null => {
    const found = /^(["'])(.*?)\1/.exec(text.slice(at));
    if (!found) return null;
    at += found[0].length;
    return found[2] ?? "";
  };

  const column = (): string => {
    skip();
    const start = at;
    const named = quotedText();
    if (named !== null && columns.includes(named)) return named;
    at = start;
    const found = known.find((one) => {
      const next = text[start + one.length] ?? " ";
      return text.slice(start, start + one.length).toLowerCase() === one.toLowerCase() && !/\w/.test(next);
    });
    if (found === undefined) {
      const given = /^[^\s=<>!()]+/.exec(text.slice(start))?.[0] ?? "nothing";
      throw new ConditionError(`There is no column ${given}; there are: ${columns.join(", ")}`, start + 1);
    }
    at = start + found.length;
    return found;
  };

  const comparison = (): Test => {
    const name = column();
    skip();
    const signAt = at;
    const sign = SIGNS.find((one) => word(one));
    if (!sign) throw new ConditionError(`After ${name} comes one of ${SIGNS.join(" ")}`, signAt + 1);
    if (sign === "is empty") return compare(name, sign, "", true);
    skip();
    const valueAt = at;
    const quoted = quotedText();
    if (quoted !== null) return compare(name, sign, quoted, true);
    const bare = /^.*?(?=\s+(?:and|or)\s|\)|$)/i.exec(text.slice(at))?.[0] ?? "";
    at += bare.length;
    if (!bare.trim()) throw new ConditionError(`A value is missing after ${sign}`, valueAt + 1);
    return compare(name, sign, bare.trim(), false);
  };

  const single = (): Test => {
    if (word("not")) {
      const inner = single();
      return (row) => !inner(row);
    }
    if (!word("(")) return comparison();
    const inner = either();
    if (!word(")")) throw new ConditionError("A bracket is not closed", at + 1);
    return inner;
  };
  const both = (): Test => {
    let made = single();
    while (word("and")) {
      const [left, right] = [made, single()];
      made = (row) => left(row) && right(row);
    }
    return made;
  };
  const either = (): Test => {
    let made = both();
    while (word("or")) {
      const [left, right] = [made, both()];
      made = (row) => left(row) || right(row);
    }
    return made;
  };

  const made = either();
  skip();
  if (at < text.length) throw new ConditionError(`${text.slice(at, at + 12)} is not understood`, at + 1);
  return made;
}
