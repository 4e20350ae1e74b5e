import { num } from "../desk/format";
import { areaOf, boxAround, lengthOf } from "./geometry";
import type { PatchContent } from "./operators";
import { useRuler } from "./useMended";
import { placesOf } from "./useStack";

type Drawn = Pick<PatchContent, "ring" | "line">;

/** The size of what is drawn, short enough for a row. */
export function Size({ content }: { content: Drawn }) {
  const places = useRuler().toGround(placesOf(content));
  if (content.line) {
    const length = lengthOf(places);
    return <>{length >= 1000 ? `${num(length / 1000, 2)} km` : `${num(length)} m`}</>;
  }
  return <>{num(areaOf(places) / 10_000, 2)} ha</>;
}

/** The same as a ruler has it: length and width. */
export function Extent({ content }: { content: Drawn }) {
  const places = useRuler().toGround(placesOf(content));
  if (content.line)
    return (
      <>
        <span className="n">{num(lengthOf(places), 1)}</span> m long
      </>
    );
  const { length, width } = boxAround(places);
  return (
    <>
      <span className="n">
        {num(length, 1)} × {num(width, 1)}
      </span>{" "}
      m
    </>
  );
}
