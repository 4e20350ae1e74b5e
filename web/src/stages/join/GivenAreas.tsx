import { useEffect } from "react";
import { useDesk } from "../../desk/store";
import { Choice } from "../parts";

/** An area drawn by hand and the number of the source that is taken there. */
export interface Given {
  surface: number;
  ring: [number, number][];
}

/** The seam as drawn by hand: areas, each with the source that holds it wherever that has a height. */
export function GivenAreas(props: { names: string[]; given: Given[]; onChange: (given: Given[]) => void }) {
  const { names, given, onChange } = props;
  const drawing = useDesk((desk) => desk.drawing);
  const area = useDesk((desk) => desk.area);
  const set = useDesk((desk) => desk.set);
  useEffect(() => {
    if (!area) return;
    const ring = area.map(([x, y]) => [Math.round(x * 100) / 100, Math.round(y * 100) / 100] as [number, number]);
    onChange([...given, { surface: 0, ring }]);
    set({ area: null });
  }, [area, given, onChange, set]);
  useEffect(() => () => set({ drawing: false, area: null }), [set]);
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
          <button
            type="button"
            className="lnk"
            aria-label={`Take area ${i + 1} away`}
            onClick={() => onChange(given.filter((_, j) => j !== i))}
          >
            Remove
          </button>
        </div>
      ))}
      <p className="times">
        <button type="button" className="lnk" aria-pressed={drawing} onClick={() => set({ drawing: !drawing })}>
          {drawing ? "Click the corners, twice at the last" : "Draw an area where one is taken"}
        </button>
      </p>
    </>
  );
}
