import { GRATICULES, type Graticule } from "../../map/useGraticule";
import { Choice } from "../../ui/Choice";
import { useDesk } from "../store";

/** Whether lines of equal coordinates lie over the map, and of which. */
export function GraticuleChoice() {
  const graticule = useDesk((desk) => desk.graticule);
  const set = useDesk((desk) => desk.set);
  return (
    <section>
      <Choice
        label="Graticule"
        value={graticule}
        options={Object.entries(GRATICULES).map(([value, title]) => ({ value, title }))}
        onChange={(value) => set({ graticule: value as Graticule })}
      />
    </section>
  );
}
