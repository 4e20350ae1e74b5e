import type { Finding } from "../api/client";
import { WeightIcon } from "../desk/icons";
import { usePlaces } from "../desk/overlays";
import { Sentence } from "../desk/Sentence";
import { Button } from "../ui/Button";
import { Section } from "../ui/Sheet";

const WORD = { note: "Note.", caution: "Caution.", stop: "Stop." };

/** Findings with their fixes. `onFix` sets parameters; places can be shown on the map. */
export function Findings({
  findings,
  onFix,
  bare,
}: {
  findings: Finding[];
  onFix?: (change: Record<string, unknown>) => void;
  /** Without a heading of its own. */
  bare?: boolean;
}) {
  const marks = usePlaces();
  if (!findings.length) return null;
  const listed = findings.map((finding) => (
    <div key={`${finding.code}${finding.fix?.label ?? ""}`} className={`find ${finding.weight}`}>
      <WeightIcon weight={finding.weight} />
      <b>{WORD[finding.weight]}</b> <Sentence text={`${finding.sentence} ${finding.why}`} />
      {((finding.fix && onFix) || finding.places.length > 0) && (
        <div className="acts">
          {finding.fix && onFix && (
            <Button onClick={() => onFix(finding.fix?.set_params ?? {})}>{finding.fix.label}</Button>
          )}
          {finding.places.length > 0 && (
            <Button kind="link" onClick={() => marks.show(marks.shown ? null : finding.places)}>
              {marks.shown ? "Hide them" : "Show them"}
            </Button>
          )}
        </div>
      )}
    </div>
  ));
  return bare ? <div>{listed}</div> : <Section title="Findings">{listed}</Section>;
}
