import { useMemo } from "react";
import type { Holding } from "../../api/client";
import { useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { useFeatures } from "../../desk/useDraft";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { TextField } from "../../ui/TextField";
import { boxOf } from "../gather/area";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const NONE = "any";
/** West, south, east, north. */
type Box = [number, number, number, number];

/** The values of a column, each with how many features have it, the most frequent first. */
function useValues(holding: Holding | undefined, column: string): [string, number][] {
  const { data } = useFeatures(column ? holding : undefined);
  return useMemo(() => {
    const counts = new Map<string, number>();
    for (const { properties } of data?.features ?? []) {
      const value = properties[column];
      if (value !== null && value !== undefined) counts.set(String(value), (counts.get(String(value)) ?? 0) + 1);
    }
    return [...counts].sort(([, one], [, other]) => other - one).slice(0, MOST_VALUES);
  }, [data, column]);
}

const MOST_VALUES = 200;

const SIDES = [
  ["West", "East"],
  ["South", "North"],
];
const PLACE = { West: 0, South: 1, East: 2, North: 3 } as Record<string, number>;

/** Only the part of a surface that is wanted. */
export function ClipSheet() {
  const project = useProject();
  const { all, features } = useHeld();
  const work = useWorksheet("clip");
  const bounds = useDesk((desk) => desk.bounds);
  const { params, setParams, setInput } = work;
  const { chosen } = useRole(work, "surface");
  const polygons = features.find((one) => one.id === work.ids("area")[0]);
  const box = params.bounds as Box | null;
  const onFrame = chosen?.surface?.crs === project.frame.grid.crs;
  // a rectangle stands instead of polygons: those chosen before would be named as a source and never be used
  const cut = (to: number[]) => {
    setParams({ keep: "rectangle", bounds: to.map(Math.round) as Box, column: null, value: null });
    setInput("area", []);
  };
  // what is drawn on the map becomes the rectangle
  const draw = useTool("area", (ring) => cut(boxOf(ring)));
  const values = useValues(polygons, params.column);
  const which = polygons && (
    <>
      <Choice
        label="Only where"
        value={params.column || NONE}
        options={[
          { value: NONE, title: "all of them" },
          ...Object.keys(polygons.features?.attributes ?? {}).map((one) => ({ value: one, title: one })),
        ]}
        onChange={(column) => setParams({ column: column === NONE ? null : column })}
      />
      {params.column && (
        <TextField
          label="is"
          value={params.value}
          maxLength={200}
          proposals={values.map(([value, count]) => ({
            value,
            title: count === 1 ? "1 polygon" : `${count} polygons`,
          }))}
          onChange={(value) => setParams({ value: value || null })}
        />
      )}
    </>
  );
  const sides =
    box &&
    SIDES.map((pair) => (
      <div key={pair[0]} className="numbers">
        {pair.map((side) => (
          <NumberField
            key={side}
            label={side}
            value={box[PLACE[side] ?? 0]}
            onChange={(value) =>
              setParams({ bounds: box.map((old, i) => (i === PLACE[side] ? (value ?? 0) : old)) as Box })
            }
          />
        ))}
      </div>
    ));
  const extents = all.filter((one) => one.bounds && one.id !== chosen?.id);
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, ${params.keep === "outside" ? "emptied inside" : "clipped"}` : ""}
      parts={[
        { title: "What goes in", of: ["in:surface"] },
        {
          title: "Where",
          of: [
            ...(box
              ? [<div key="sides">{sides}</div>]
              : [
                  <RoleField key="area" work={work} input="area" none="choose" />,
                  <div key="which">{which}</div>,
                  "margin" as const,
                ]),
            <p key="ways" className="times">
              {onFrame && (
                <Button kind="link" aria-pressed={draw.inHand} onClick={() => draw.put(!draw.inHand)}>
                  {draw.inHand ? "Do not draw" : "Draw it"}
                </Button>
              )}
              {onFrame && bounds && (
                <Button kind="link" onClick={() => cut(bounds)}>
                  This view
                </Button>
              )}
              {onFrame && (
                <select
                  aria-label="The extent of"
                  value=""
                  onChange={(event) => {
                    const one = extents.find(({ id }) => id === Number(event.target.value));
                    if (one?.bounds) cut(one.bounds);
                  }}
                >
                  <option value="">the extent of…</option>
                  {extents.map((one) => (
                    <option key={one.id} value={one.id}>
                      {one.name}
                    </option>
                  ))}
                </select>
              )}
              {box && (
                <Button kind="link" onClick={() => setParams({ bounds: null, keep: null })}>
                  Polygons instead
                </Button>
              )}
            </p>,
          ],
        },
        { title: "What stays", of: ["keep", "touched", "trim", "name"] },
      ]}
    />
  );
}
