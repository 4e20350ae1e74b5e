import { Popover } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Job } from "../api/client";
import { KEYS } from "../api/keys";
import { client, isOpen, useJobs } from "../api/queries";
import { Button } from "../ui/Button";
import { useProject } from "./context";
import { num, percent } from "./format";
import styles from "./jobsButton.module.css";

const STATES: Record<string, string> = {
  queued: "waiting",
  running: "running",
  done: "done",
  failed: "failed",
  cancelled: "cancelled",
};

function seconds(job: Job): string {
  if (!job.started_at || !job.ended_at) return "";
  const taken = (Date.parse(job.ended_at) - Date.parse(job.started_at)) / 1000;
  return ` in ${num(taken, taken < 10 ? 1 : 0)} s`;
}

function JobItem({ job }: { job: Job }) {
  const project = useProject();
  const act = useMutation({
    mutationFn: (what: "cancel" | "seen") => call("POST", `/projects/${project.id}/jobs/${job.id}/${what}`),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const open = isOpen(job);
  return (
    <li>
      <div>{job.title}</div>
      {open && (
        <div className="bar" role="progressbar" aria-valuenow={Math.round(job.progress * 100)} aria-label={job.title}>
          <i style={{ width: `${Math.max(job.progress * 100, 2)}%` }} />
        </div>
      )}
      {job.state === "failed" && <div className="fail">{job.message}</div>}
      {act.error && (
        <div className="fail" role="alert">
          {act.error.message}
        </div>
      )}
      <div className="state">
        <span>
          {job.question ? "waits for an answer in Add files" : STATES[job.state]}
          {job.state === "running" && <span className="n"> {percent(job.progress)}</span>}
          {job.state === "done" && seconds(job)}
          {job.tries > 1 && ", second try"}
        </span>
        {open && (
          <Button kind="link" onClick={() => act.mutate("cancel")}>
            Cancel
          </Button>
        )}
        {job.state === "failed" && !job.seen && (
          <Button kind="link" onClick={() => act.mutate("seen")}>
            Put aside
          </Button>
        )}
      </div>
    </li>
  );
}

/** How many jobs are open, and the list of the newest ones. */
export function JobsButton() {
  const project = useProject();
  const { data = [] } = useJobs(project.id);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const open = data.filter(isOpen);
  const ended = data.filter((job) => job.state === "failed" && !job.seen);
  const failed = ended.filter((job) => !job.question);
  const asked = ended.length - failed.length;
  const first = open.at(-1);
  const share = first?.progress ?? 0;
  const text = open.length
    ? `${open.length} ${open.length === 1 ? "job" : "jobs"}`
    : failed.length
      ? `${failed.length} failed`
      : asked
        ? `${asked} ${asked === 1 ? "question" : "questions"}`
        : "no jobs";
  return (
    <>
      <button type="button" className="jobs" aria-label={`Jobs: ${text}`} onClick={(e) => setAnchor(e.currentTarget)}>
        <svg viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
          <circle cx="8" cy="8" r="5.6" stroke={failed.length && !open.length ? "#9C2B2B" : "#DAD6CA"} />
          {first && (
            <circle
              cx="8"
              cy="8"
              r="5.6"
              stroke="#1B6470"
              strokeLinecap="round"
              strokeDasharray={`${Math.max(share, 0.03) * 35.2} 36`}
              transform="rotate(-90 8 8)"
            />
          )}
        </svg>
        <span>{text}</span>
      </button>
      <Popover
        open={Boolean(anchor)}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: "bottom", horizontal: "right" }}
        transformOrigin={{ vertical: "top", horizontal: "right" }}
      >
        <ul className={styles.joblist} aria-label="Jobs">
          {data.length === 0 && <li className="mut">Nothing has been run in this project yet.</li>}
          {data.map((job) => (
            <JobItem key={job.id} job={job} />
          ))}
        </ul>
      </Popover>
    </>
  );
}
