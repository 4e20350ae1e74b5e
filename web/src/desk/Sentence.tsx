import { num } from "./format";

/** A quoted text, which stays to the letter, or a figure that stands by itself. */
const PARTS = /('[^']*'|(?<![\w:.])[-\u2212]?\d+(?:\.\d+)?(?![\w:]))/;

/** A sentence of the core with its figures set as figures: digits grouped, in the figures' typeface. */
export function Sentence({ text }: { text: string }) {
  let at = 0;
  return (
    <>
      {text.split(PARTS).map((part) => {
        at += part.length;
        if (!/^[-\u2212]?\d/.test(part)) return part;
        const decimals = part.split(".")[1]?.length ?? 0;
        return (
          <span className="n" key={`${at}${part}`}>
            {num(Number(part.replace("\u2212", "-")), decimals)}
          </span>
        );
      })}
    </>
  );
}
