import type { Holding } from "../../api/client";

/** A place in the graph: a holding, or several files that went into one step together. */
export interface Node {
  id: string;
  holdings: Holding[];
  /** Steps before (below 0) or after (above 0) the holding that is looked at. */
  depth: number;
  /** Something it was made from has a newer take, or what made it is computed otherwise by now. */
  stale: boolean;
}

export interface Graph {
  nodes: Node[];
  /** From what went in to what was made. */
  edges: [string, string][];
}

const MANY = 4; // files of one step from here on are shown as one

export const sourcesOf = (one: Holding): number[] => Object.values(one.recipe?.input_ids ?? {}).flat();

/** Holdings that a newer take replaces, by its number. */
export function newerTakes(all: Holding[]): Map<number, Holding> {
  const found = new Map<number, Holding>();
  for (const one of [...all].sort((a, b) => a.id - b.id)) {
    if (one.instead_of !== null) found.set(one.instead_of, one);
    const mended = one.fixed_by ? all.find((other) => other.name === one.fixed_by) : undefined;
    if (mended) found.set(one.id, mended);
  }
  return found;
}

/** The numbers of holdings that are out of date. */
export function staleOf(all: Holding[]): Set<number> {
  const newer = newerTakes(all);
  const byId = new Map(all.map((one) => [one.id, one]));
  const known = new Map<number, boolean>();
  const isStale = (id: number): boolean => {
    const before = known.get(id);
    if (before !== undefined) return before;
    known.set(id, false);
    const one = byId.get(id);
    const found = Boolean(
      one && (one.outdated || sourcesOf(one).some((source) => newer.has(source) || isStale(source))),
    );
    known.set(id, found);
    return found;
  };
  return new Set(all.filter(({ id }) => isStale(id)).map(({ id }) => id));
}

/** What a holding was made from, back to the files, and what was made from it. */
export function graphOf(of: Holding, all: Holding[]): Graph {
  const byId = new Map(all.map((one) => [one.id, one]));
  const stale = staleOf(all);
  const depths = new Map<number, number>([[of.id, 0]]);
  const edges = new Map<string, [string, string]>();
  const grouped = new Map<string, Holding[]>();
  const join = (from: string, to: string) => edges.set(`${from}>${to}`, [from, to]);
  const back = (one: Holding, depth: number) => {
    const sources = sourcesOf(one).flatMap((id) => byId.get(id) ?? []);
    const files = sources.filter((source) => !source.recipe);
    const apart = files.length >= MANY ? sources.filter((source) => source.recipe) : sources;
    if (files.length >= MANY) {
      grouped.set(`files of ${one.id}`, files);
      depths.set(-one.id, Math.min(depths.get(-one.id) ?? 0, depth - 1));
      join(`files of ${one.id}`, String(one.id));
    }
    for (const source of apart) {
      join(String(source.id), String(one.id));
      if ((depths.get(source.id) ?? 1) <= depth - 1) continue;
      depths.set(source.id, depth - 1);
      back(source, depth - 1);
    }
  };
  const forth = (one: Holding, depth: number) => {
    for (const user of all.filter((other) => sourcesOf(other).includes(one.id))) {
      join(String(one.id), String(user.id));
      if ((depths.get(user.id) ?? -1) >= depth + 1) continue;
      depths.set(user.id, depth + 1);
      forth(user, depth + 1);
    }
  };
  back(of, 0);
  forth(of, 0);
  const nodes = [...depths].flatMap(([id, depth]): Node[] => {
    const files = grouped.get(`files of ${-id}`);
    if (id < 0) return files ? [{ id: `files of ${-id}`, holdings: files, depth, stale: false }] : [];
    const one = byId.get(id);
    return one ? [{ id: String(id), holdings: [one], depth, stale: stale.has(id) }] : [];
  });
  const there = new Set(nodes.map(({ id }) => id));
  return { nodes, edges: [...edges.values()].filter(([from, to]) => there.has(from) && there.has(to)) };
}

export const [WIDE, HIGH, GAP_X, GAP_Y] = [172, 36, 34, 7];

/** Where each node stands, column by column, and how large all of it is. */
export function laidOut({ nodes }: Graph): { at: Map<string, [number, number]>; width: number; height: number } {
  const first = Math.min(...nodes.map(({ depth }) => depth));
  const columns = new Map<number, Node[]>();
  for (const node of nodes) columns.set(node.depth - first, [...(columns.get(node.depth - first) ?? []), node]);
  const most = Math.max(...[...columns.values()].map((column) => column.length), 1);
  const height = most * (HIGH + GAP_Y) - GAP_Y;
  const at = new Map<string, [number, number]>();
  for (const [column, held] of columns) {
    const top = (height - held.length * (HIGH + GAP_Y) + GAP_Y) / 2;
    for (const [i, node] of held.entries()) at.set(node.id, [column * (WIDE + GAP_X), top + i * (HIGH + GAP_Y)]);
  }
  return { at, width: columns.size * (WIDE + GAP_X) - GAP_X, height };
}
