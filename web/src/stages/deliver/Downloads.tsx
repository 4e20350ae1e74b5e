import { useStart } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { many, size } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Sheet } from "../../ui/Sheet";

/** Each surface as a file to take away. */
export function Downloads() {
  const project = useProject();
  const { surfaces } = useHeld();
  const start = useStart(project.id);
  return (
    <Sheet
      stage="Deliver"
      title="Download surfaces"
      lead="Cloud-optimised GeoTIFF, 32-bit decimal heights, with CRS, unit, zero level and the key of its recipe."
    >
      {surfaces.length === 0 && <p className="remark">No surface yet.</p>}
      {surfaces.map((one) => (
        <section className="sec" key={one.id} aria-label={one.name}>
          <h2>
            {one.name}
            <small>
              <span className="n">{size(one.surface?.cell_size ?? 0)}</span> m,{" "}
              {many(one.surface?.statistics.cells ?? 0)} cells
            </small>
          </h2>
          <div className="acts">
            {one.live ? (
              <>
                <span className="mut small-print">live, has no file yet</span>
                <Button onClick={() => start.mutate({ path: `/holdings/${one.id}/store` })}>Store surface</Button>
              </>
            ) : (
              <a
                className="btn"
                href={`/api/projects/${project.id}/holdings/${one.id}/geotiff`}
                aria-label={`Download ${one.name} as GeoTIFF`}
              >
                GeoTIFF
              </a>
            )}
            {one.recipe && (
              <a
                className="lnk"
                href={`/api/projects/${project.id}/holdings/${one.id}/recipe`}
                download={`${one.name}.recipe.json`}
              >
                Recipe
              </a>
            )}
          </div>
        </section>
      ))}
    </Sheet>
  );
}
