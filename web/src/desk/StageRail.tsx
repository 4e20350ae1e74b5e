import { Popover } from "@mui/material";
import { useRef } from "react";
import { useJobs } from "../api/queries";
import { useHeld, useProject } from "./context";
import { StageIcon } from "./icons";
import styles from "./stageRail.module.css";
import { STAGES, type Stage, useDesk } from "./store";

const KEYS: [string, string][] = [
  ["1 – 8", "stages"],
  ["A  B", "put the picture under the pointer into a slot"],
  ["X", "swap A and B"],
  ["Space", "hold to see B in A's place"],
  ["C", "curtain"],
  ["M", "minus"],
  ["T", "pair"],
  ["S", "several side by side"],
  ["P", "profile along a line"],
  ["G", "three dimensions"],
  ["F", "whole frame"],
  ["Ctrl Z", "undo the last deletion, edit of lines or change to patches; with Shift again"],
  ["O E H L I W", "in Mend: outline, rectangle, freehand, line, brush, grow"],
  ["V Q D U Y", "in Mend: vertices, square, divide, unite, copy"],
  ["N", "in Mend: the lens"],
  ["J  K", "in Mend: next and previous suspect; Enter mends it, R: it is real"],
  ["Esc", "back to the list of a stage"],
  ["?", "this list"],
];

/** The stages in the order of work, each with a count of what needs a look. */
export function StageRail() {
  const project = useProject();
  const stage = useDesk((desk) => desk.stage);
  const open = useDesk((desk) => desk.open);
  const keysOpen = useDesk((desk) => desk.keysOpen);
  const set = useDesk((desk) => desk.set);
  const anchor = useRef<HTMLButtonElement>(null);
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const counts: Partial<Record<Stage, number>> = {
    Gather:
      all.filter((one) => !one.recipe && !one.fixed_by && one.findings.some((finding) => finding.weight !== "note"))
        .length +
      jobs.filter((job) => ["take_in", "fetch", "features"].includes(job.kind) && job.state === "failed" && !job.seen)
        .length,
    Build: jobs.filter((job) => job.kind === "run" && job.state === "failed" && !job.seen).length,
  };
  return (
    <nav className="rail" aria-label="Stages">
      {STAGES.map((name, i) => (
        <button
          key={name}
          type="button"
          className="stage"
          aria-current={stage === name ? "step" : undefined}
          onClick={() => open(name)}
        >
          <i className={styles.k}>{i + 1}</i>
          <StageIcon stage={name} />
          <span>{name}</span>
          {Boolean(counts[name]) && (
            <b className={styles.cnt}>
              {counts[name]}
              <span className="unseen"> to look at</span>
            </b>
          )}
        </button>
      ))}
      <button
        ref={anchor}
        type="button"
        className="keys"
        aria-label="List of keys"
        onClick={() => set({ keysOpen: true })}
      >
        <kbd>?</kbd>keys
      </button>
      <Popover
        open={keysOpen}
        anchorEl={anchor.current}
        onClose={() => set({ keysOpen: false })}
        anchorOrigin={{ vertical: "top", horizontal: "right" }}
        transformOrigin={{ vertical: "bottom", horizontal: "left" }}
      >
        <div className={styles.keyslist} role="list" aria-label="Keys">
          {KEYS.map(([key, what]) => (
            <div key={key} role="listitem" style={{ display: "contents" }}>
              <kbd>{key}</kbd>
              <span>{what}</span>
            </div>
          ))}
        </div>
      </Popover>
    </nav>
  );
}
