import { toolOf, useDesk } from "../desk/store";
import { factsOf } from "../tools/tool";

/** What the tool in hand wants of the pointer. Reading has its line below the map, and editing says it on its worksheet. */
export function ToolHint() {
  const tool = useDesk(toolOf);
  if (tool.kind === "read" || tool.kind === "edit") return null;
  return (
    <div className="tag toolhint" role="status">
      {factsOf(tool).hint}
    </div>
  );
}
