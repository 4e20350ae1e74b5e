import type { Holding } from "../api/client";

/**
 * Whether points, lines, clouds or images are on a person's map: as that person says, else points and features, since anything
 * else would cover the surfaces. Lines that another person made of a surface wait until they are asked for.
 */
export function isVisible(holding: Holding, hidden: Record<string, boolean>, me: number | undefined): boolean {
  const said = hidden[holding.id];
  if (said !== undefined) return !said;
  if (holding.kind !== "points" && holding.kind !== "features") return false;
  return !(holding.kind === "features" && holding.recipe && holding.maker_id !== me);
}

/** Whether lines bear heights, as contours do: they would cover a map of differences. */
export const bearsHeights = (holding: Holding): boolean => Object.keys(holding.features?.units ?? {}).length > 0;
