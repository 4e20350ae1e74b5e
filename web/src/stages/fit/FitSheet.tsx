import type { Holding } from "../../api/client";
import { useProject } from "../../desk/context";
import { size } from "../../desk/format";
import { Told } from "../../ui/Row";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { Where } from "./Where";

const elsewhere = (one: Holding) => !one.surface?.on_frame;

/** A surface in another CRS or cell size on the frame's own cells. */
export function FitSheet() {
  const { frame } = useProject();
  const work = useWorksheet("fit_to_frame");
  const { chosen } = useRole(work, "surface", elsewhere);
  const { params } = work;
  const cell = params.cell_size ?? frame.cell_size;
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name} at ${size(cell)} m` : ""}
      parts={[
        {
          title: "What goes in",
          of: [
            <RoleField key="surface" work={work} input="surface" likely={elsewhere} />,
            chosen?.surface && (
              <Told key="cells" label="Its cells">
                <span className="n">{size(chosen.surface.cell_size)}</span> m in{" "}
                <span className="n">{chosen.surface.crs}</span>
              </Told>
            ),
          ],
        },
        {
          title: "How",
          of: [
            <Told key="onto" label="Onto">
              <span className="n">{frame.grid.crs}</span>, in step with the frame
            </Told>,
            "cell_size",
            "resampling",
          ],
        },
        {
          title: "Where",
          aside: params.bounds || work.ids("area").length ? undefined : "all of it",
          of: [<Where key="where" work={work} />, "trim", "name"],
        },
      ]}
    />
  );
}
