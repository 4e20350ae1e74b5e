import { useState } from "react";
import type { Line } from "../map/shapes";
import { Button } from "../ui/Button";
import { NumberField } from "../ui/NumberField";
import styles from "./mend.module.css";
import { useMendedStack, useShape } from "./useMended";
import type { AnyEntry } from "./useStack";

/** Moves the rim of an outline out or in. */
export function RimRow({ entry }: { entry: AnyEntry }) {
  const { change } = useMendedStack();
  const shape = useShape();
  const [by, setBy] = useState<number | null>(2);
  const { ring } = entry.content;
  if (!ring) return null;
  const move = (sign: number) =>
    shape.mutate(
      { how: "offset", rings: [ring as Line], metres: sign * (by ?? 0) },
      {
        onSuccess: ([made]) =>
          made && change([{ name: entry.name, kind: entry.kind, content: { ...entry.content, ring: made } as never }]),
      },
    );
  return (
    <>
      <div className="row two joined">
        <NumberField label="Move the rim" unit="m" value={by} onChange={setBy} />
        <span className={styles.outin}>
          <Button kind="small" disabled={!by} onClick={() => move(1)}>
            Out
          </Button>
          <Button kind="small" disabled={!by} onClick={() => move(-1)}>
            In
          </Button>
        </span>
      </div>
      {shape.error && (
        <p className="fail" role="alert">
          {shape.error.message}
        </p>
      )}
    </>
  );
}
