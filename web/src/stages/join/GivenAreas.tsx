import type { Place, Ring } from "../../map/shapes";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";

/** An area drawn by hand and the number of the source that is taken there. */
export interface Given {
  surface: number;
  ring: Ring;
}

/** The seam as drawn by hand: areas, each with the source that holds it wherever that has a height. */
export function GivenAreas(props: { names: string[]; given: Given[]; onChange: (given: Given[]) => void }) {
  const { names, given, onChange } = props;
  const draw = useTool("area", (area) => {
    const ring = area.map(([x, y]): Place => [Math.round(x * 100) / 100, Math.round(y * 100) / 100]);
    onChange([...given, { surface: 0, ring }]);
  });
  return (
    <>
      {given.map((one, i) => (
        <div className="given" key={JSON.stringify(one.ring)}>
          <Choice
            label={`In area ${i + 1}`}
            value={String(one.surface)}
            options={names.map((title, number) => ({ value: String(number), title }))}
            onChange={(number) =>
              onChange(given.map((other, j) => (j === i ? { ...one, surface: Number(number) } : other)))
            }
          />
          <Button
            kind="link"
            aria-label={`Take area ${i + 1} away`}
            onClick={() => onChange(given.filter((_, j) => j !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      <p className="times">
        <Button kind="link" aria-pressed={draw.inHand} onClick={() => draw.put(!draw.inHand)}>
          {draw.inHand ? "Do not draw" : "Draw an area where one is taken"}
        </Button>
      </p>
    </>
  );
}
