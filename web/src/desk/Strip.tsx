import { useHeld } from "./context";
import { Deleted } from "./Deleted";
import { type Tab, useDesk } from "./store";
import { HeightsTab } from "./tabs/HeightsTab";
import { LinesTab } from "./tabs/LinesTab";
import { OverlapsTab } from "./tabs/OverlapsTab";
import { ProfileTab } from "./tabs/ProfileTab";
import { ReadingsTab } from "./tabs/ReadingsTab";
import { RecipeTab } from "./tabs/RecipeTab";
import { SurfacesTab } from "./tabs/SurfacesTab";
import { TablesTab } from "./tabs/TablesTab";

/** What is held, as pictures and tables, along the foot of the desk. */
export function Strip() {
  const { surfaces, points, features, clouds, images, tables } = useHeld();
  const tab = useDesk((desk) => desk.tab);
  const pinned = useDesk((desk) => desk.pinned);
  const joining = useDesk((desk) => desk.operation === "mosaic");
  const set = useDesk((desk) => desk.set);
  const tabs: [Tab, string, number | null][] = [
    ["surfaces", "Surfaces", surfaces.length],
    ["lines", "Lines & points", points.length + features.length + clouds.length + images.length],
    ["tables", "Tables", tables.length],
    ["profile", "Profile", null],
    ["heights", "Heights", null],
    ["readings", "Readings", pinned.length],
    ["recipe", "Recipe", null],
  ];
  if (joining) tabs.push(["overlaps", "Overlaps", null]);
  return (
    <section className="strip" aria-label="Holdings">
      <div className="tabs" role="tablist">
        {tabs.map(([name, title, count]) => (
          <button
            key={name}
            type="button"
            role="tab"
            id={`tab-${name}`}
            aria-selected={tab === name}
            aria-controls="strip-body"
            onClick={() => set({ tab: name })}
          >
            {title}
            {count !== null && <span className="n">{count}</span>}
          </button>
        ))}
        {tab === "overlaps" && <span className="hint">Press a pair to see its difference on the map</span>}
        {tab === "surfaces" && surfaces.length > 0 && (
          <span className="hint">
            Newest first. Point at a picture and press <kbd>A</kbd> or <kbd>B</kbd>
          </span>
        )}
        {(tab === "surfaces" || tab === "lines" || tab === "tables") && <Deleted />}
      </div>
      <div className="body" id="strip-body" role="tabpanel" aria-labelledby={`tab-${tab}`}>
        {tab === "surfaces" && <SurfacesTab />}
        {tab === "lines" && <LinesTab />}
        {tab === "tables" && <TablesTab />}
        {tab === "profile" && <ProfileTab />}
        {tab === "heights" && <HeightsTab />}
        {tab === "readings" && <ReadingsTab />}
        {tab === "recipe" && <RecipeTab />}
        {tab === "overlaps" && <OverlapsTab />}
      </div>
    </section>
  );
}
