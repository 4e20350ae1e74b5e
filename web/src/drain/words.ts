import type { Network } from "../api/client";
import { num } from "../desk/format";

export const kilometres = (metres: number) => num(metres / 1000, metres < 100_000 ? 1 : 0);
export const hectares = (area: number) => num(area, area < 1 ? 2 : area < 10 ? 1 : 0);
export const square = (area: number) => num(area, area < 0.1 ? 4 : area < 10 ? 2 : 1);
export const cubic = (metres: number) => (metres < 1e6 ? `${num(metres)} m³` : `${num(metres / 1e6, 1)} million m³`);
export const counted = (count: number, one: string, many: string) => `${num(count)} ${count === 1 ? one : many}`;

const METHODS: Record<NonNullable<Network["method"]>, string> = {
  leave: "left",
  fill: "filled",
  breach: "breached",
  lesser: "lesser change",
};

/** What becomes of hollows, in few words. */
export function hollowsOf(content: Network): string {
  const { method = "lesser", most_depth, most_area, most_length } = content;
  const limits = [
    most_depth != null && `${num(most_depth, most_depth % 1 ? 1 : 0)} m deep`,
    most_area != null && `${num(most_area)} m²`,
    most_length != null && `${num(most_length)} m long`,
  ].filter(Boolean);
  const upTo = limits.length && method !== "leave" ? ` up to ${limits.join(", ")}` : "";
  return METHODS[method] + upTo + (content.over_level === false ? ", not over level ground" : "");
}

/** The same for networks that are the same. */
export const markOf = (content: Network): string =>
  JSON.stringify(Object.fromEntries(Object.entries(content).sort(([one], [other]) => (one < other ? -1 : 1))));
