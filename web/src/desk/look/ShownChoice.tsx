import type { Quantity } from "../../api/client";
import { SHOWN, type ShownAs, useShownProblem } from "../../map/useShown";
import { Choice } from "../../ui/Choice";
import { useHeld } from "../context";
import { useDesk } from "../store";

/** What is shown of heights: themselves, or what is made of them. */
export function ShownChoice({ quantity }: { quantity: Quantity }) {
  const shownAs = useDesk((desk) => desk.shownAs);
  const set = useDesk((desk) => desk.set);
  const { a, b } = useHeld();
  const problem = [useShownProblem(a), useShownProblem(b)].find(Boolean);
  if (quantity === "difference" || quantity === "source") return null;
  return (
    <section>
      <Choice
        label="Show"
        value={shownAs}
        options={Object.entries(SHOWN).map(([value, { title }]) => ({ value, title }))}
        onChange={(value) => set({ shownAs: value as ShownAs })}
      />
      {problem && (
        <p className="err" role="alert">
          {problem}
        </p>
      )}
    </section>
  );
}
