import { num } from "../desk/format";
import { Button } from "../ui/Button";
import styles from "./drain.module.css";
import { LETTER, type Slot, useDrainState } from "./state";
import type { useDrained } from "./useDrained";
import { square } from "./words";

type Found = ReturnType<typeof useDrained>["catchments"];

/** The outlets, and the ground above each on the surfaces that are looked at. */
export function CatchmentsTable({ of }: { of: { slot: Slot; catchments: Found }[] }) {
  const { outlets, set } = useDrainState();
  const [own, beside] = of;
  if (!outlets.length || !own) return null;
  return (
    <>
      <table className={`t tight ${styles.table}`} aria-label="Catchments">
        <thead>
          <tr>
            <th className="w">outlet</th>
            <th title="How far it was moved to where most ground drains">moved</th>
            <th>{LETTER[own.slot]} km²</th>
            {beside && <th>{LETTER[beside.slot]} km²</th>}
            {beside && <th title="What both share, of what they cover together">shared</th>}
            <th aria-label="Remove" />
          </tr>
        </thead>
        <tbody>
          {outlets.map((one, i) => {
            const [first, second] = [own.catchments[i], beside?.catchments[i]];
            return (
              // biome-ignore lint/suspicious/noArrayIndexKey: outlets may lie in one place
              <tr key={i} title={first?.reason}>
                <td className="w">
                  <b className="n">{i + 1}</b> {one.name}
                </td>
                <td className="n">{first?.area != null ? `${num(first.moved)} m` : ""}</td>
                <td className="n">{first?.area != null ? square(first.area) : "–"}</td>
                {beside && <td className="n">{second?.area != null ? square(second.area) : "–"}</td>}
                {beside && <td className="n">{first?.common != null ? `${num(100 * first.common)} %` : "–"}</td>}
                <td>
                  <Button
                    kind="link"
                    aria-label={`Remove outlet ${i + 1}`}
                    onClick={() => set({ outlets: outlets.filter((_, j) => j !== i) })}
                  >
                    ×
                  </Button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {own.catchments.map(
        ({ reason }, i) =>
          reason && (
            // biome-ignore lint/suspicious/noArrayIndexKey: outlets may lie in one place
            <p key={i} className="mut small-print">
              <b className="n">{i + 1}</b> {reason}
            </p>
          ),
      )}
    </>
  );
}
