import type { Finding } from "../../api/client";
import type { Source } from "../../desk/products";

/** The surfaces of sources one after the other, and for each the number of its source; null where each is its own. */
export function flattened(sources: Source[]): { ids: number[]; groups: number[] | null } {
  const ids = sources.flatMap(({ holdings }) => holdings.map((one) => one.id));
  const groups = sources.flatMap(({ holdings }, i) => holdings.map(() => i));
  return { ids, groups: groups.length > sources.length ? groups : null };
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
