import { Button } from "../ui/Button";
import { percent } from "./format";
import type { useMeasured } from "./useMeasured";

/** The press that has figures found on every cell, and how far that is. */
export function Measure({ measure }: { measure: ReturnType<typeof useMeasured>["measure"] }) {
  return (
    <>
      <Button kind="link" disabled={measure.running} onClick={measure.start}>
        Measure on every cell
      </Button>
      {measure.running && <span className="mut">measuring, {percent(measure.progress)}</span>}
      {measure.failed && <span className="err">{measure.failed}</span>}
    </>
  );
}
