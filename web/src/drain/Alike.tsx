import type { NetworkLikeness } from "../api/client";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { Button } from "../ui/Button";
import styles from "./drain.module.css";
import { LETTER, type Slot, useDrainState } from "./state";
import { counted } from "./words";

const placesOf = (count: number) => counted(count, "place", "places");

/** How alike the streams of both slots are to known rivers, and where they part from them. */
export function Alike({ of }: { of: { slot: Slot; found: NetworkLikeness | undefined }[] }) {
  const { parted, set } = useDrainState();
  const rows = of.flatMap(({ slot, found }) => (found?.found != null ? [{ slot, found }] : []));
  if (!rows.length) return null;
  return (
    <table className={`t tight ${styles.table}`} aria-label="Against known rivers">
      <thead>
        <tr>
          <th className="w" aria-label="Of" />
          <th title="How much of the reference lies within the distance of the streams">found</th>
          <th title="How much of the streams lies within the distance of the reference">near it</th>
          <th title="Mean distance from the streams to the reference">mean</th>
          <th title="Where they are farther apart than that for longer than three times the distance">part at</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ slot, found }) => (
          <tr key={slot}>
            <td className="w">
              <b>{LETTER[slot]}</b>
            </td>
            <td className="n">{num(100 * (found.found ?? 0))} %</td>
            <td className="n">{num(100 * (found.own_near ?? 0))} %</td>
            <td className="n">{num(found.mean, 1)} m</td>
            <td>
              {found.partings?.length ? (
                <Button
                  kind="link"
                  aria-pressed={parted === slot}
                  aria-label={`${placesOf(found.parted ?? 0)} where ${LETTER[slot]} parts from the reference`}
                  title={
                    (found.parted ?? 0) > found.partings.length
                      ? `Tells the ${found.partings.length} longest on the map`
                      : "Tells all of them on the map"
                  }
                  onClick={() => {
                    set({ parted: parted === slot ? null : slot });
                    useDesk.getState().set({ bench: "map" });
                  }}
                >
                  {placesOf(found.parted ?? 0)}
                </Button>
              ) : (
                "none"
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
