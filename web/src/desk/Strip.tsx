import { isBackdrop } from "../map/backdrops";
import { useHeld } from "./context";
import { Deleted } from "./Deleted";
import { ownTab } from "./ownTab";
import { type Tab, useDesk } from "./store";
import styles from "./strip.module.css";
import { HeightsTab } from "./tabs/HeightsTab";
import { LinesTab } from "./tabs/LinesTab";
import { ProfileTab } from "./tabs/ProfileTab";
import { ReadingsTab } from "./tabs/ReadingsTab";
import { RecipeTab } from "./tabs/RecipeTab";
import { SurfacesTab } from "./tabs/surfaces/SurfacesTab";
import { SurfaceTools } from "./tabs/surfaces/SurfaceTools";
import { TablesTab } from "./tabs/TablesTab";

/** What is held, as pictures and tables, along the foot of the desk. */
export function Strip() {
  const { all, surfaces, points, features, clouds, images, tables } = useHeld();
  // a tab that a worksheet brought along is gone with it
  const tab = useDesk((desk) =>
    desk.tab.startsWith("own ") && !desk.ownTabs.some((one) => ownTab(one.title) === desk.tab) ? "surfaces" : desk.tab,
  );
  const pinned = useDesk((desk) => desk.pinned);
  const brought = useDesk((desk) => desk.ownTabs);
  const own = brought.find((one) => ownTab(one.title) === tab);
  const set = useDesk((desk) => desk.set);
  const tabs: [Tab, string, number | null][] = [
    ["surfaces", "Surfaces", surfaces.length],
    [
      "lines",
      "Lines, points, pictures",
      points.length + features.length + clouds.length + images.length + all.filter(isBackdrop).length,
    ],
    ["tables", "Tables", tables.length],
    ["profile", "Profile", null],
    ["heights", "Heights", null],
    ["readings", "Readings", pinned.length],
    ["recipe", "Recipe", null],
  ];
  for (const one of brought) tabs.push([ownTab(one.title), one.title, null]);
  return (
    <section className="strip" aria-label="Holdings">
      <div className={styles.tabs} role="tablist">
        {tabs.map(([name, title, count]) => (
          <button
            key={name}
            type="button"
            role="tab"
            id={`tab-${name.replaceAll(" ", "-")}`}
            aria-selected={tab === name}
            aria-controls="strip-body"
            onClick={() => set({ tab: name })}
          >
            {title}
            {count !== null && <span className="n">{count}</span>}
          </button>
        ))}
        {own && <span className="hint">{own.hint}</span>}
        {tab === "surfaces" && <SurfaceTools />}
        {(tab === "surfaces" || tab === "lines" || tab === "tables") && <Deleted />}
      </div>
      <div className="body" id="strip-body" role="tabpanel" aria-labelledby={`tab-${tab.replaceAll(" ", "-")}`}>
        {tab === "surfaces" && <SurfacesTab />}
        {tab === "lines" && <LinesTab />}
        {tab === "tables" && <TablesTab />}
        {tab === "profile" && <ProfileTab />}
        {tab === "heights" && <HeightsTab />}
        {tab === "readings" && <ReadingsTab />}
        {tab === "recipe" && <RecipeTab />}
        {own && <own.Body />}
      </div>
    </section>
  );
}
