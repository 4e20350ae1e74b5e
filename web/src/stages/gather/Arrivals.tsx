import type { Holding } from "../../api/client";
import { useHeld } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { Sheet } from "../../ui/Sheet";
import { Arrival } from "./Arrival";

const RANK = { stop: 0, caution: 1, note: 2 };

/** Everything that came in from outside, what asks for attention first. */
export function Arrivals() {
  const { all } = useHeld();
  const first = useDesk((desk) => desk.inspected);
  const worst = (one: Holding) => (one.fixed_by ? 4 : Math.min(3, ...one.findings.map(({ weight }) => RANK[weight])));
  const came = all
    .filter((one) => one.uploaded)
    .sort((a, b) => Number(b.id === first) - Number(a.id === first) || worst(a) - worst(b));
  return (
    <Sheet stage="Gather" title="What came in" lead="Every file as it was inspected, findings first.">
      {came.map((holding) => (
        <Arrival key={holding.id} holding={holding} />
      ))}
      {!came.length && <p className="remark">Nothing has come in yet. Add files, or order tiles.</p>}
    </Sheet>
  );
}
