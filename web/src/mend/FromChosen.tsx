import { useHeld } from "../desk/context";
import { useDesk } from "../desk/store";
import { useFeatures } from "../desk/useDraft";
import { type Line, lineOf } from "../map/shapes";
import { Button } from "../ui/Button";
import { between } from "./geometry";
import styles from "./mend.module.css";
import { newPatch, usualOperator } from "./operators";
import { useMend } from "./state";
import { useMendedStack } from "./useMended";
import { freshName } from "./useStack";

const MOST_TAKEN = 50;

/** Takes features that were chosen in the strip as outlines: polygons as areas, lines as rivers or edges. */
export function FromChosen() {
  const { features } = useHeld();
  const { change } = useMendedStack();
  const chosen = useDesk((desk) => desk.chosen);
  const { data } = useFeatures(features.find((one) => one.id === chosen.holding));
  const shapes = (data?.features ?? []).filter((one) => chosen.numbers.includes(one.id)).slice(0, MOST_TAKEN);
  if (!shapes.length) return null;
  const lines = shapes.map(({ geometry }) => (geometry.type.includes("Polygon") ? null : lineOf(geometry)));
  const [left, right] = lines;
  const takeBanks = () => {
    const name = freshName();
    const content = newPatch({ ring: between(left as Line, right as Line) }, usualOperator("falling"));
    change([{ name, kind: "patch", content }]);
    useMend.getState().set({ chosen: name });
  };
  const take = () => {
    const says = shapes.flatMap(({ geometry }) => {
      const places = lineOf(geometry);
      if (!places) return [];
      const area = geometry.type.includes("Polygon");
      const drawn = area ? { ring: places.slice(0, -1) } : { line: places };
      const kind = area ? "level" : "falling";
      return [{ name: freshName(), kind: "patch" as const, content: newPatch(drawn, usualOperator(kind)) }];
    });
    change(says);
    useMend.getState().set({ chosen: says[0]?.name ?? null });
  };
  return (
    <p className={styles.draws}>
      <Button kind="link" onClick={take}>
        Take {shapes.length === 1 ? "the chosen feature" : `the ${shapes.length} chosen features`} as{" "}
        {shapes.length === 1 ? "an outline" : "outlines"}
      </Button>
      {left && right && lines.length === 2 && (
        <Button kind="link" onClick={takeBanks}>
          as the banks of a river
        </Button>
      )}
    </p>
  );
}
