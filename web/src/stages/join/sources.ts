import type { Finding, Holding } from "../../api/client";

/** One source of a mosaic: a surface, or the tiles that a product comes in. */
export interface Source {
  name: string;
  holdings: Holding[];
}

const text = (value: unknown) => (typeof value === "string" ? value : "");

/** What makes tiles one source: the provider's product. A cut-out, and one that looks to be in another unit, stand alone. */
function kindOf(one: Holding): string {
  const product = text(one.origin.product);
  const doubtful = one.findings.some((finding) => finding.code === "feet");
  const cutOut = text(one.origin.tile).startsWith("cut-out"); // on cells of its own
  return product && !doubtful && !cutOut ? `${product} ${one.surface?.unit} ${one.surface?.crs}` : `only ${one.id}`;
}

/** Surfaces as sources, in the order in which the first of each stands. */
export function sourcesOf(surfaces: Holding[]): Source[] {
  const found = new Map<string, Holding[]>();
  for (const one of surfaces) found.set(kindOf(one), [...(found.get(kindOf(one)) ?? []), one]);
  return [...found.values()].map((holdings) => {
    const first = holdings[0] as Holding;
    const tile = text(first.origin.tile);
    return {
      holdings,
      name: holdings.length > 1 && tile ? (first.name.split(` ${tile}`)[0] ?? first.name) : first.name,
    };
  });
}

/** The surfaces of sources one after the other, and for each the number of its source; null where each is its own. */
export function flattened(sources: Source[]): { ids: number[]; groups: number[] | null } {
  const ids = sources.flatMap(({ holdings }) => holdings.map((one) => one.id));
  const groups = sources.flatMap(({ holdings }, i) => holdings.map(() => i));
  return { ids, groups: groups.length > sources.length ? groups : null };
}

/** RMSE and NMAD at checkpoints of all tiles of a source together; null where none was judged. */
export function accuracyOf({ holdings }: Source): { rmse: number; nmad: number } | null {
  let [squares, spread, count] = [0, 0, 0];
  for (const { accuracy } of holdings) {
    if (!accuracy || accuracy.rmse == null || accuracy.nmad == null) continue;
    squares += accuracy.count * accuracy.rmse ** 2;
    spread += accuracy.count * accuracy.nmad;
    count += accuracy.count;
  }
  return count ? { rmse: Math.sqrt(squares / count), nmad: spread / count } : null;
}

/** Findings of the sources' own files that would spoil what is joined from them, one for each kind. */
export function doubtsAbout(sources: Source[]): Finding[] {
  const codes = ["feet", "void_value"];
  const doubts = sources.flatMap(({ holdings }) =>
    holdings.flatMap((holding) =>
      holding.findings.filter(({ code }) => codes.includes(code)).map((finding) => ({ holding, finding })),
    ),
  );
  return codes.flatMap((code) => {
    const found = doubts.filter(({ finding }) => finding.code === code);
    const first = found[0];
    if (!first) return [];
    const more = found.length > 1 ? ` The same of ${found.length - 1} more.` : "";
    return [
      {
        code: `own-${code}`,
        weight: "caution" as const,
        sentence: `${first.holding.name}: ${first.finding.sentence}`,
        why: `${first.finding.why}${more}`.trim(),
        fix: { label: "Look at it in Gather", set_params: { [INSPECT]: first.holding.id } },
        places: [],
      },
    ];
  });
}

/** Among the parameters a mend would set: the holding to look at instead. */
export const INSPECT = "inspect";
