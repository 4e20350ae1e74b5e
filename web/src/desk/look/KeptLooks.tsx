import { Button } from "../../ui/Button";
import { FRESH, useDesk } from "../store";

import { KeepAs } from "./KeepAs";
import type { LookProps } from "./LookButton";

/** Looks that were kept under names: put on at a press. */
export function KeptLooks({ look, quantity }: LookProps) {
  const kept = useDesk((desk) => desk.keptLooks);
  const light = useDesk((desk) => desk.light);
  const set = useDesk((desk) => desk.set);
  const setLook = useDesk((desk) => desk.look);
  const mine = kept.filter((one) => one.quantity === quantity);
  return (
    <section>
      <h3>Kept looks</h3>
      {mine.length > 0 && (
        <p className="acts">
          {mine.map((one) => (
            <span key={one.name}>
              <Button
                kind="link"
                onClick={() => {
                  setLook(quantity, one.look);
                  set({ light: { ...FRESH.light, ...one.light } });
                }}
              >
                {one.name}
              </Button>
              <Button
                kind="link"
                aria-label={`Forget the look ${one.name}`}
                onClick={() => set({ keptLooks: kept.filter((other) => other !== one) })}
              >
                ×
              </Button>
            </span>
          ))}
        </p>
      )}
      <KeepAs
        label="Keep look as"
        onKeep={(called) => {
          const others = kept.filter((one) => one.name !== called || one.quantity !== quantity);
          set({ keptLooks: [...others, { name: called, quantity, look, light }] });
        }}
      />
    </section>
  );
}
