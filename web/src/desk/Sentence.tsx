import { num } from "./format";

/** A sentence of the core with its figures set as figures: digits grouped, in the figures' typeface. */
export function Sentence({ text }: { text: string }) {
  let at = 0;
  const parts = text.split(/((?<![\w:.])[-\u2212]?\d+(?:\.\d+)?(?![\w:]))/);
  return (
    <>
      {parts.map((part) => {
        at += part.length;
        const key = `${at}${part}`;
        if (!/^[-\u2212]?\d/.test(part)) return part;
        const decimals = part.split(".")[1]?.length ?? 0;
        return (
          <span className="n" key={key}>
            {num(Number(part.replace("\u2212", "-")), decimals)}
          </span>
        );
      })}
    </>
  );
}
