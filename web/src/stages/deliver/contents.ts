import type { Holding } from "../../api/client";
import { num } from "../../desk/format";

/** A file's size in words. */
export const megabytes = (bytes: number) => (bytes < 1e5 ? `${num(bytes / 1e3)} kB` : `${num(bytes / 1e6, 1)} MB`);

/** What may go into a package, in groups as a technician thinks of them. */
export function groupsOf(held: { surfaces: Holding[]; others: Holding[] }): { title: string; holdings: Holding[] }[] {
  const kind = (name: string) => held.others.filter((one) => one.kind === name);
  return [
    { title: "Surfaces made here", holdings: held.surfaces.filter((one) => one.recipe) },
    { title: "Surfaces as they came", holdings: held.surfaces.filter((one) => !one.recipe) },
    { title: "Lines and areas", holdings: kind("features") },
    { title: "Points", holdings: kind("points") },
    { title: "Clouds", holdings: kind("cloud") },
    { title: "Images", holdings: kind("image") },
    { title: "Pictures", holdings: kind("picture") },
  ].filter(({ holdings }) => holdings.length > 0);
}
