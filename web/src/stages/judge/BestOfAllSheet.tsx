import { OPERATIONS } from "../../api/operations";
import { OperationSheet } from "../OperationSheet";
import { useWorksheet } from "../useWorksheet";

/** One surface from several, each where it is good. */
export function BestOfAllSheet() {
  const work = useWorksheet("best_of_all");
  const [cover] = work.ids("cover");
  return (
    <OperationSheet
      work={work}
      name="Best of all"
      lead={OPERATIONS.best_of_all.summary}
      parts={[
        { title: "What goes in", of: ["in:surfaces"] },
        {
          title: "What says how wrong each is",
          of: ["in:points", "in:cover", cover !== undefined && "column"],
        },
        { title: "Result", of: ["output", "name"] },
      ]}
    />
  );
}
