import type { Proposal } from "../../api/client";
import { HEIGHT_UNITS, parse } from "../../desk/format";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { TextField } from "../../ui/TextField";
import { AreaOfUse, useAreaOfUse } from "./AreaOfUse";
import { CrsChoice } from "./CrsChoice";

export const SIDES = [
  ["cell_size", "Cell size"],
  ["west", "West"],
  ["south", "South"],
  ["east", "East"],
  ["north", "North"],
] as const;
export type SideName = (typeof SIDES)[number][0];

/** A frame as it is typed. */
export interface Typed {
  crs: string;
  sides: Record<string, string>;
  heights: string;
  datum: string;
}

/** The numbers of a frame that is typed; null where one is none. */
export const parsedSides = ({ sides }: Typed) =>
  Object.fromEntries(SIDES.map(([key]) => [key, parse(sides[key] ?? "")])) as Record<SideName, number | null>;

/** A proposal as if it were typed. */
export const filled = (found: Proposal, typed: Typed): Typed => ({
  ...typed,
  crs: found.crs,
  sides: Object.fromEntries(SIDES.map(([key]) => [key, String(Math.round(found[key] * 1e6) / 1e6)])),
});

interface Props {
  typed: Typed;
  onChange: (typed: Typed) => void;
  onProposal?: (found: Proposal) => void;
}

/** What a frame is: CRS, cell size, area, and in what its heights are. */
export function FrameFields({ typed, onChange, onProposal }: Props) {
  const { use, unit, area } = useAreaOfUse(typed.crs, parsedSides(typed));
  const fill = (found: Proposal) => (onProposal ?? ((one: Proposal) => onChange(filled(one, typed))))(found);
  return (
    <>
      <CrsChoice value={typed.crs} onChange={(crs) => onChange({ ...typed, crs })} />
      <AreaOfUse use={use} fix={{ crs: typed.crs, area, cellSize: parsedSides(typed).cell_size, onProposal: fill }} />
      {SIDES.map(([key, title]) => (
        <NumberField
          key={`${key}${typed.crs}`}
          label={title}
          unit={unit}
          value={parse(typed.sides[key] ?? "")}
          onChange={(value) =>
            onChange({ ...typed, sides: { ...typed.sides, [key]: value === null ? "" : String(value) } })
          }
        />
      ))}
      <Choice
        label="Heights in"
        value={typed.heights}
        options={HEIGHT_UNITS}
        onChange={(heights) => onChange({ ...typed, heights })}
      />
      <TextField
        label="Zero level"
        value={typed.datum}
        placeholder="vertical datum, if known"
        onChange={(datum) => onChange({ ...typed, datum })}
      />
    </>
  );
}
