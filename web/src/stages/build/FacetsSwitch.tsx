import { useEffect } from "react";
import { useProject } from "../../desk/context";
import { many, num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { useFacetsInView } from "../../map/useFacets";

/** Shows the facets of the preview, or of A, over the map, and says which of them are suspicious. */
export function FacetsSwitch() {
  const project = useProject();
  const on = useDesk((desk) => desk.facetsOn);
  const set = useDesk((desk) => desk.set);
  const facets = useFacetsInView(project.id);
  useEffect(() => () => set({ facetsOn: false }), [set]);
  return (
    <>
      <label className="ck one">
        <input type="checkbox" checked={on} onChange={(event) => set({ facetsOn: event.target.checked })} />
        Show facets on the map
      </label>
      {facets && (
        <p className="mut" style={{ fontSize: 12, lineHeight: "16px" }} role="status">
          {facets.count === null
            ? "What is shown is not made of facets."
            : facets.count === 0
              ? "No facet reaches into the view."
              : facets.sloping.length + facets.level.length + facets.left_out.length === 0
                ? `${many(Math.round(facets.count / 3))} facets are too many to show. Go closer.`
                : `${num(Math.round(facets.count / 3))} facets: ${num(Math.round(facets.level.length / 3))} level (bold), ${num(
                    Math.round(facets.left_out.length / 3),
                  )} left out (dashed).`}
        </p>
      )}
    </>
  );
}
