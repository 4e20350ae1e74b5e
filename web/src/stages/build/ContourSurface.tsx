import { useEffect } from "react";
import type { Holding } from "../../api/client";
import { num } from "../../desk/format";
import { Choice } from "../../ui/Choice";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { FacetsSwitch } from "./FacetsSwitch";
import { Methods } from "./Methods";

const NAMED = "named";
const USUAL_REACH = 200; // metres

/** What of the lines is most likely contours: by name, else whatever has a column of numbers. */
const likely = (one: Holding) =>
  /contour/i.test(one.name) ||
  Object.keys(one.features?.attributes ?? {}).some((name) => /elev|height|contour/i.test(name));

/** Contours to a surface: the sheet's lines and what lies beside them, how, findings, preview and run. */
export function ContourSurface() {
  const work = useWorksheet("contour_surface");
  const { params, given, setParams } = work;
  const { usable, chosen } = useRole(work, "contours", likely);
  const untouched = chosen !== undefined && given.reach_limit === undefined;
  useEffect(() => {
    if (untouched) setParams({ reach_limit: USUAL_REACH });
  }, [untouched, setParams]);

  const columns = Object.entries(chosen?.features?.attributes ?? {})
    .filter(([, kind]) => kind === "number")
    .map(([name]) => name);
  const spline = params.method === "spline";
  const itself = (one: Holding) => one === chosen;
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${spline ? "Spline" : "Facets"} of ${chosen.name}` : ""}
      missing={
        usable.length ? undefined : "No lines yet. Add contours in Gather: a shapefile in a zip, a GeoPackage or a DXF."
      }
      parts={[
        {
          title: "What goes in",
          aside: chosen?.features && (
            <>
              <span className="n">{num(chosen.features.counts.lines ?? 0)}</span> lines
            </>
          ),
          of: [
            <RoleField
              key="contours"
              work={work}
              input="contours"
              likely={likely}
              onChosen={() => setParams({ height_field: null })}
            />,
            columns.length > 1 && (
              <Choice
                key="column"
                label="Heights"
                value={params.height_field ?? NAMED}
                options={[
                  { value: NAMED, title: "found by its name" },
                  ...columns.map((column) => ({ value: column, title: column })),
                ]}
                onChange={(next) => setParams({ height_field: next === NAMED ? null : next })}
              />
            ),
            "in:spots",
            <RoleField key="streams" work={work} input="streams" but={itself} />,
            "in:lakes",
            <RoleField key="coast" work={work} input="coast" but={itself} />,
            <RoleField key="area" work={work} input="area" none="the frame" />,
          ],
        },
        {
          title: "How",
          of: [
            <Methods key="method" work={work} name="method" />,
            "drained",
            "tension",
            "smoothing",
            "reach_limit",
            "edge_limit",
            "join_gaps",
            "cell_size",
            !spline && <FacetsSwitch key="facets" />,
            "name",
          ],
        },
      ]}
    />
  );
}
