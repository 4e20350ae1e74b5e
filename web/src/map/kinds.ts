/** Colours of what covers the ground, by words that are usual for it. */
const COVER: Record<string, string> = {
  wood: "#3F7440",
  forest: "#3F7440",
  scrub: "#7E8F4E",
  heath: "#8A6F8C",
  grass: "#A3B56B",
  pasture: "#A3B56B",
  field: "#CDB75A",
  crop: "#CDB75A",
  marsh: "#5F9A94",
  water: "#3F7F93",
  rock: "#8D8779",
  sand: "#DCCBA0",
  snow: "#DDE6EA",
  town: "#A65A4A",
  built: "#A65A4A",
  road: "#5E6A70",
};

/** Colours for any other values, told apart from each other. */
const OTHERS = ["#7A4E9C", "#1D6C72", "#B5803A", "#9C2B2B", "#5670A8", "#6E8F3A", "#B86A92", "#4F5B62"];

/** What is none of the values that have a colour. */
export const REST = "#B9B2A2";
const MOST = 12;

/** Values of a column with their colours, in the order of the words; only the commonest where they are very many. */
export function coloursOf(counts: [value: string, count: number][]): Map<string, string> {
  const commonest = [...counts].sort(([a, m], [b, n]) => n - m || (a < b ? -1 : 1)).slice(0, MOST);
  const values = commonest.map(([value]) => value).sort();
  const left = OTHERS.slice();
  return new Map(values.map((value) => [value, COVER[value.toLowerCase()] ?? left.shift() ?? REST]));
}

/** How often each value stands in a column. */
export function countsOf(values: unknown[]): [string, number][] {
  const counts = new Map<string, number>();
  for (const value of values)
    if (value !== null && value !== undefined) counts.set(String(value), (counts.get(String(value)) ?? 0) + 1);
  return [...counts];
}
