import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Accepted, type Question as Asked, call } from "../../api/client";
import { useProject } from "../../desk/context";
import { WeightIcon } from "../../desk/icons";
import { Sentence } from "../../desk/Sentence";
import { Button } from "../../ui/Button";
import { Entry } from "../../ui/Entry";
import { CrsChoice } from "./CrsChoice";

interface Props {
  question: Asked;
  onTaken: (answer: Accepted) => void;
  /** The file is not wanted after all. */
  onLeave: () => void;
}

/** What is typed, by what it answers. */
const WORDS: Record<string, string> = { tile: "zoom/column/row" };
/** What of an answer is to be typed. */
const asked = (change: Record<string, unknown>) => Object.keys(change).find((name) => change[name] === "");

/** What a received file does not say and must be known of it, with its answers: nothing is guessed. */
export function Question({ question, onTaken, onLeave }: Props) {
  const project = useProject();
  const [said, setSaid] = useState<Record<string, unknown>>(question.declared);
  const [crs, setCrs] = useState(project.frame.grid.crs);
  const [texts, setTexts] = useState<Record<string, string>>({});
  const take = useMutation({
    mutationFn: (declared: Record<string, unknown>) =>
      call<Accepted>("POST", `/projects/${project.id}/uploads/${question.file_key}/take`, {
        name: question.name,
        declared,
      }),
    onSuccess: onTaken,
  });
  const open = question.findings.filter(
    (finding) => !finding.answers?.some((one) => Object.keys(one.set_params).every((name) => name in said)),
  );
  const answer = (change: Record<string, unknown>, last: boolean) => {
    const next = { ...said, ...change };
    setSaid(next);
    if (last) take.mutate(next);
  };
  const filled = (change: Record<string, unknown>) => {
    if ("crs" in change) return { crs };
    const open = asked(change);
    return open ? { [open]: (texts[open] ?? "").trim() } : change;
  };
  const complete = (change: Record<string, unknown>) => Object.values(filled(change)).every((value) => value !== "");
  return (
    <section className="sec" aria-label={`Question about ${question.name}`}>
      <h2>
        {question.name}
        <small>waits for an answer</small>
      </h2>
      {open.map((finding) => (
        <div key={finding.code} className="find caution">
          <WeightIcon weight="caution" />
          <b>Question.</b> <Sentence text={`${finding.sentence} ${finding.why}`} />
          {finding.answers?.map((one) => {
            if ("crs" in one.set_params) return <CrsChoice key={one.label} value={crs} onChange={setCrs} />;
            const open = asked(one.set_params);
            return open ? (
              <Entry
                key={one.label}
                label={one.label}
                placeholder={WORDS[open] ?? open}
                value={texts[open] ?? ""}
                onChange={(text) => setTexts({ ...texts, [open]: text })}
              />
            ) : null;
          })}
          <div className="acts">
            {finding.answers?.map((one) => (
              <Button
                key={one.label}
                disabled={take.isPending || !complete(one.set_params)}
                onClick={() => answer(filled(one.set_params), open.length === 1)}
              >
                {one.label}
              </Button>
            ))}
            {finding === open[0] && (
              <Button kind="link" onClick={onLeave}>
                Leave it out
              </Button>
            )}
          </div>
        </div>
      ))}
      {take.error && (
        <p className="fail" role="alert">
          {take.error.message}
        </p>
      )}
    </section>
  );
}
