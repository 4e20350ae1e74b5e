/** Numbers as text: digits grouped by a no-break space (narrowed by the class `n`), a true minus, fixed decimals. */
/** An area given in square metres. */
export const areaOf = (area: number): string => (area >= 10_000 ? `${num(area / 10_000, 1)} ha` : `${num(area)} m²`);

export function num(value: number | null | undefined, decimals = 0): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  const fixed = Math.abs(value).toFixed(decimals);
  const [whole = "0", rest] = fixed.split(".");
  const grouped = whole.replace(/\B(?=(\d{3})+(?!\d))/g, "\u00a0");
  const negative = value < 0 && Number(fixed) !== 0;
  return `${negative ? "\u2212" : ""}${grouped}${rest ? `.${rest}` : ""}`;
}

/** A cell size: no more decimals than it has. */
export function size(value: number): string {
  return num(value, value >= 20 || Number.isInteger(value) ? 0 : value >= 1 ? 1 : 2);
}

/** Characters that a name may have, as the service takes them. */
export const LONGEST_NAME = 120;

/** Height units as they are chosen, and their length in metres. */
export const HEIGHT_UNITS = [
  { value: "m", title: "metres", metres: 1 },
  { value: "ft", title: "international feet", metres: 0.3048 },
  { value: "us-ft", title: "US survey feet", metres: 1200 / 3937 },
];

/** Metres in a unit of height. */
export const metresIn = (unit: string) => HEIGHT_UNITS.find((one) => one.value === unit)?.metres ?? 1;

/** A unit of height as it stands behind a figure. */
export const shortUnit = (unit: string) => (unit === "us-ft" ? "ft" : unit);

/** A word or sentence as it begins a line. */
export const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** Many cells in words: 21.0 million, 740 thousand. */
export function many(value: number): string {
  if (value >= 1e9) return `${num(value / 1e9, 1)} thousand million`;
  if (value >= 1e6) return `${num(value / 1e6, 1)} million`;
  if (value >= 1e4) return `${num(value / 1e3)} thousand`;
  return num(value);
}

/** A count of cells in thousands, for narrow places: 740 k. */
export function thousands(value: number): string {
  return value < 10_000 ? num(value) : `${num(value / 1000)} k`;
}

/** Degrees with their side: 41.20191° S. */
export function degrees(value: number, sides: [string, string]): string {
  return `${Math.abs(value).toFixed(5)}° ${value < 0 ? sides[1] : sides[0]}`;
}

/** A share as per cent. */
export function percent(share: number): string {
  return `${num(share * 100, 1)} %`;
}

/** A number somebody typed, with comma or point, minus of either kind; null where it is none. */
export function parse(text: string): number | null {
  const cleaned = text
    .trim()
    .replace(/[\s\u00a0\u202f]/g, "")
    .replace("\u2212", "-")
    .replace(",", ".");
  if (!/^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i.test(cleaned)) return null;
  return Number(cleaned);
}

/** Decimals that a range needs to be read. */
export function decimalsFor(range: number): number {
  return range < 0.2 ? 3 : range < 2 ? 2 : range < 20 ? 1 : 0;
}
