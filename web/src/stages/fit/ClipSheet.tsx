import { useHeld, useProject } from "../../desk/context";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { OnlyWhere } from "./OnlyWhere";
import { Rectangle } from "./Rectangle";

/** Only the part of a surface that is wanted. */
export function ClipSheet() {
  const project = useProject();
  const { features } = useHeld();
  const work = useWorksheet("clip");
  const { params, setParams, setInput } = work;
  const { chosen } = useRole(work, "surface");
  const polygons = features.find((one) => one.id === work.ids("area")[0]);
  const box = params.bounds;
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, ${params.keep === "outside" ? "emptied inside" : "clipped"}` : ""}
      parts={[
        { title: "What goes in", of: ["in:surface"] },
        {
          title: "Where",
          of: [
            !box && <RoleField key="area" work={work} input="area" none="choose" />,
            !box && polygons && (
              <OnlyWhere
                key="where"
                holding={polygons}
                where={params.where}
                onChange={(where) => setParams({ where })}
              />
            ),
            !box && "margin",
            <Rectangle
              key="rectangle"
              box={box}
              but={chosen?.id}
              onMap={chosen?.surface?.crs === project.frame.grid.crs}
              instead="Polygons instead"
              onNone={() => setParams({ bounds: null, keep: null })}
              onChange={(bounds) => {
                // it stands instead of polygons: those chosen before would be named as a source and never be used
                setParams({ keep: box ? params.keep : "rectangle", bounds, where: null });
                setInput("area", []);
              }}
            />,
          ],
        },
        { title: "What stays", of: ["keep", "touched", "trim", "name"] },
      ]}
    />
  );
}
