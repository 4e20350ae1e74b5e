import { useState } from "react";
import { useProject } from "../../desk/context";
import { many, num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useFacetsInView } from "../../map/useFacetsInView";
import { Check } from "../../ui/Check";

/** Shows the facets of the preview, or of A, over the map, and says which of them are suspicious. */
export function FacetsSwitch() {
  const project = useProject();
  const [on, setOn] = useState(false);
  const facets = useFacetsInView(project.id, on);
  useOverlay("facets", facets);
  return (
    <>
      <Check label="Show facets on the map" checked={on} onChange={(on) => setOn(on)} />
      {facets && (
        <p className="mut small-print" role="status">
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
