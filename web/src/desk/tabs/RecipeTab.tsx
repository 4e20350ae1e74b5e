import { useHeld, useProject } from "../context";
import { useDesk } from "../store";

/** What made the surface in A. */
export function RecipeTab() {
  const project = useProject();
  const { a } = useHeld();
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  if (!a) return <p className="empties">Put a surface in A to see what made it.</p>;
  const recipe = a.recipe;
  if (!recipe)
    return (
      <p className="empties">
        <b>{a.name}</b> came as the file <b>{a.original}</b>, kept as it was.
      </p>
    );
  const settings = Object.entries(recipe.params);
  return (
    <div className="tabpad" style={{ fontSize: 12.5, lineHeight: "18px" }}>
      <div>
        <span className="chipa">A</span>
        <b style={{ fontWeight: 600 }}>{a.name}</b>, made by {recipe.title.toLowerCase()} from{" "}
        {Object.values(recipe.inputs).join(" and ")}
      </div>
      <div className="mut">
        {settings.length
          ? settings
              .map(
                ([name, value]) => `${name.replaceAll("_", " ")}: ${Array.isArray(value) ? value.join(", ") : value}`,
              )
              .join(" · ")
          : "all settings as they come"}
      </div>
      <div style={{ display: "flex", gap: 14, marginTop: 6 }}>
        <button
          type="button"
          className="btn"
          onClick={() => {
            sheet(recipe.operation, { params: recipe.params, inputs: recipe.input_ids, name: "" });
            const stage =
              recipe.operation === "interpolate_points"
                ? "Build"
                : recipe.operation === "difference"
                  ? "Judge"
                  : "Deliver";
            open(stage, recipe.operation);
          }}
        >
          Run again with one thing changed
        </button>
        <a
          className="lnk"
          style={{ alignSelf: "center" }}
          href={`/api/projects/${project.id}/holdings/${a.id}/recipe`}
          download={`${a.name}.recipe.json`}
        >
          Download the recipe
        </a>
      </div>
    </div>
  );
}
