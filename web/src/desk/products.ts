import type { Holding } from "../api/client";

/** A surface, or the tiles that a product comes in. */
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
