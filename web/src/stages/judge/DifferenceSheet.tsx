import { useProject } from "../../desk/context";
import { shortUnit, size } from "../../desk/format";
import { OperationSheet } from "../OperationSheet";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

/** One surface minus another, on the frame. */
export function DifferenceSheet() {
  const { frame } = useProject();
  const work = useWorksheet("difference");
  const names = [useRole(work, "first").chosen?.name, useRole(work, "second").chosen?.name];
  return (
    <OperationSheet
      work={work}
      name={names.filter(Boolean).join(" minus ")}
      lead={`On the frame's cells of ${size(frame.cell_size)} m, in ${shortUnit(frame.unit)}.`}
      parts={[
        { title: "What goes in", of: ["in:first", "in:second"] },
        { title: "Result", of: ["name"] },
      ]}
    />
  );
}
