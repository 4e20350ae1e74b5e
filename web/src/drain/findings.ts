import type { Finding, Hollow, Hollows, Streams } from "../api/client";
import { num } from "../desk/format";
import { counted, kilometres } from "./words";

/** What is to be said of the streams that are looked at. errors: hollows that are probably errors in the data. */
export function findingsOf(streams: Streams | undefined, errors: Hollows | undefined): Finding[] {
  if (!streams) return [];
  const found: Finding[] = [];
  const tell = (
    code: string,
    weight: Finding["weight"],
    sentence: string,
    why: string,
    fix: Finding["fix"] = null,
    places: [number, number][] = [],
  ) => found.push({ code, weight, sentence, why, fix, places });
  const wrong = errors?.counts.error ?? 0;
  const deepest = errors?.hollows.reduce(
    (most, one) => (one.depth > most.depth ? one : most),
    errors.hollows[0] as Hollow,
  );
  if (wrong && deepest)
    tell(
      "errors",
      "caution",
      `${counted(wrong, "hollow is probably an error", "hollows are probably errors")} in the data, the deepest ${num(deepest.depth, deepest.depth < 10 ? 1 : 0)} m over ${counted(deepest.cells, "cell", "cells")}.`,
      "The list of hollows says why, and sends them to Mend.",
      null,
      errors?.hollows.map(({ x, y }): [number, number] => [x, y]),
    );
  if (streams.left)
    tell(
      "left",
      "note",
      `${counted(streams.left, "hollow keeps its water", "hollows keep their water")}.`,
      "Streams that come to it end there.",
    );
  if ((streams.unsure_length ?? 0) > 0)
    tell(
      "level",
      "caution",
      `${kilometres(streams.unsure_length ?? 0)} km of streams run over level ground, most of it made by filling.`,
      "Where they run there the computation decides, not the ground. They are drawn red and dashed.",
      { label: "Leave them out", set_params: { over_level: false } },
    );
  if (streams.missed)
    tell(
      "missed",
      "note",
      `${counted(streams.missed, "place that was said to hold water lies", "places that were said to hold water lie")} in no hollow of this surface.`,
      "Nothing is kept there.",
    );
  const lines = streams.burned ?? [];
  const [turnedOnes, outside] = [lines.filter((one) => one.turned), lines.filter((one) => one.outside)];
  const astray = lines.flatMap((one) => (one.astray ? [one.astray as [number, number]] : []));
  const of = counted(lines.length, "line", "lines");
  if (turnedOnes.length)
    tell(
      "turned",
      "note",
      `${num(turnedOnes.length)} of ${of} that are burned in ${turnedOnes.length === 1 ? "was" : "were"} drawn uphill.`,
      "The bed falls the other way.",
    );
  if (outside.length)
    tell("outside", "note", `${num(outside.length)} of ${of} to be burned in lie where there are no heights.`, "");
  if (astray.length)
    tell(
      "astray",
      "caution",
      `${num(astray.length)} of ${of} that are burned in ${astray.length === 1 ? "leaves its valley" : "leave their valleys"}.`,
      "Its bed is cut into a slope there. Look whether the line or the surface lies wrong.",
      null,
      astray,
    );
  return found;
}
