import { RoleField } from "../RoleField";
import type { Work } from "../useWorksheet";
import { Rectangle } from "./Rectangle";

/** Where a result ends: at polygons, or a rectangle of the frame's. */
export function Where({ work }: { work: Work<"fit_to_frame"> | Work<"grid_cloud"> }) {
  const { params, setParams, setInput } = work as Work<"fit_to_frame">;
  const box = params.bounds;
  return (
    <>
      {!box && <RoleField work={work} input="area" none="the frame" />}
      <Rectangle
        box={box}
        onMap
        instead="Not only there"
        onNone={() => setParams({ bounds: null })}
        onChange={(bounds) => {
          setParams({ bounds });
          setInput("area", []);
        }}
      />
    </>
  );
}
