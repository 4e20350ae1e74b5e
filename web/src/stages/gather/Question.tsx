import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Accepted, type Question as Asked, call } from "../../api/client";
import { useProject } from "../../desk/context";
import { WeightIcon } from "../../desk/icons";
import { Sentence } from "../../desk/Sentence";
import { CrsChoice } from "./CrsChoice";

interface Props {
  question: Asked;
  onTaken: (answer: Accepted) => void;
  /** The file is not wanted after all. */
  onLeave: () => void;
}

/** What a received file does not say and must be known of it, with its answers: nothing is guessed. */
export function Question({ question, onTaken, onLeave }: Props) {
  const project = useProject();
  const [said, setSaid] = useState<Record<string, unknown>>(question.declared);
  const [crs, setCrs] = useState(project.frame.grid.crs);
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
          {finding.answers?.map((one) =>
            "crs" in one.set_params ? <CrsChoice key={one.label} value={crs} onChange={setCrs} /> : null,
          )}
          <div className="acts">
            {finding.answers?.map((one) => (
              <button
                key={one.label}
                type="button"
                className="btn"
                disabled={take.isPending || ("crs" in one.set_params && !crs)}
                onClick={() => answer("crs" in one.set_params ? { crs } : one.set_params, open.length === 1)}
              >
                {one.label}
              </button>
            ))}
            {finding === open[0] && (
              <button type="button" className="lnk" onClick={onLeave}>
                Leave it out
              </button>
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
