import { Fragment } from "react";
import { useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { boxOf } from "../gather/area";

/** West, south, east, north. */
export type Box = [number, number, number, number];

const SIDES = [
  ["West", "East"],
  ["South", "North"],
];
const PLACE = { West: 0, South: 1, East: 2, North: 3 } as Record<string, number>;

interface Props {
  box: Box | null;
  /** Whether it can be taken from the map, whose CRS is the frame's. */
  onMap: boolean;
  /** Whose own extent is not offered. */
  but?: number;
  onChange: (box: Box) => void;
  /** Forgets it. */
  onNone: () => void;
  /** What is done instead of a rectangle. */
  instead: string;
}

/** A rectangle: drawn on the map, that of the view, the extent of any holding, or typed. */
export function Rectangle({ box, onMap, but, onChange, onNone, instead }: Props) {
  const project = useProject();
  const { all } = useHeld();
  const bounds = useDesk((desk) => desk.bounds);
  const take = (sides: number[]) => onChange(sides.map(Math.round) as Box);
  const draw = useTool("area", (ring) => take(boxOf(ring)));
  const extents = all.filter((one) => one.bounds && one.id !== but);
  return (
    <>
      {box &&
        SIDES.map((pair) => (
          <Fragment key={pair[0]}>
            {pair.map((side) => (
              <NumberField
                key={side}
                label={side}
                value={box[PLACE[side] ?? 0]}
                onChange={(value) => onChange(box.map((old, i) => (i === PLACE[side] ? (value ?? 0) : old)) as Box)}
              />
            ))}
          </Fragment>
        ))}
      <p className="times">
        {onMap && (
          <>
            <Button kind="link" aria-pressed={draw.inHand} onClick={() => draw.put(!draw.inHand)}>
              {draw.inHand ? "Do not draw" : "Draw it"}
            </Button>
            {bounds && (
              <Button kind="link" onClick={() => take(bounds)}>
                This view
              </Button>
            )}
          </>
        )}
        {box && (
          <Button kind="link" onClick={onNone}>
            {instead}
          </Button>
        )}
      </p>
      {onMap && extents.length > 0 && (
        <Choice
          label="Extent of"
          value=""
          empty="any that is held"
          options={extents.map((one) => ({ value: String(one.id), title: one.name }))}
          onChange={(next) => {
            const one = extents.find(({ id }) => id === Number(next));
            if (one?.bounds) take(one.bounds);
          }}
        />
      )}
      {!onMap && <p className="hint">The surface is in another CRS than {project.name}'s frame: type its own sides.</p>}
    </>
  );
}
