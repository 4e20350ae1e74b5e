import type { ReactNode } from "react";
import type { Holding } from "../api/client";
import { OPERATIONS } from "../api/operations";
import { isOpen, useJobs } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { many, num, percent } from "../desk/format";
import { useDesk } from "../desk/store";
import { Button } from "../ui/Button";
import { Refusal } from "../ui/Refusal";
import { Toggle } from "../ui/Toggle";
import styles from "./runFoot.module.css";
import type { AnyWork } from "./useWorksheet";

/** Whether what a worksheet would make is shown before it is made. */
export function PreviewSwitch() {
  const previewOn = useDesk((desk) => desk.previewOn);
  const set = useDesk((desk) => desk.set);
  return <Toggle label="Preview" checked={previewOn} onChange={(on) => set({ previewOn: on })} />;
}

/** What was made, and the ways to look at it. */
function Made({ holding, job }: { holding: Holding; job: boolean }) {
  const put = useDesk((desk) => desk.put);
  return (
    <p className="said" role="status">
      <span>
        <b>{holding.name}</b> {job ? "is made." : "is this already."}
      </span>
      {holding.kind === "surface" && (
        <span className="acts">
          {(["a", "b"] as const).map((slot) => (
            <Button key={slot} kind="small" onClick={() => put(slot, holding.key)}>
              Put in {slot.toUpperCase()}
            </Button>
          ))}
        </span>
      )}
    </p>
  );
}

export interface RunFootProps {
  work: AnyWork;
  name: string;
  /** What the button says. */
  action?: string;
  /** What stands where else the cells are told that will be made: a word and a figure; nothing where it is null. */
  makes?: [string, ReactNode] | null;
  /** What is said of what was made. */
  made?: (holding: Holding) => ReactNode;
  /** Why it cannot be run yet, beside what the service says. */
  refused?: string | null;
  /** Whether that holds it up. */
  held?: boolean;
  /** What stands beside the buttons instead of the preview's switch. */
  beside?: ReactNode;
}

/** What will be made, how large and how long; preview and run; and what became of the last run. */
export function RunFoot({ work, name, action = "Run", makes, made: told, refused, held, beside }: RunFootProps) {
  const project = useProject();
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const { preview, made } = work;
  const operation = OPERATIONS[work.operation];
  const [first] = Object.values(operation.outputs);
  const live = first?.kind === "surface" && Object.values(operation.inputs)[0]?.kind === "surface";
  const stopped = preview?.findings.some((finding) => finding.weight === "stop");
  const job = jobs.find((one) => one.id === made?.job?.id);
  const holding = all.find((one) => one.id === (job?.holding_id ?? made?.holding_id));
  const older = all.find((one) => one.id === work.sheet.again);
  // from the press on, so that nobody presses twice: until the job is listed, it is at its beginning
  const running = work.starting || (made?.job != null && (!job || isOpen(job)));
  const disabled = !work.complete || stopped || Boolean(work.refused) || held || running;
  if (!work.canRun) return <p className="remark">Viewers look; only editors and owners run this.</p>;
  return (
    <>
      <Refusal sentence={work.refused ?? work.failed ?? refused ?? (job?.state === "failed" ? job.message : null)} />
      {job?.state === "cancelled" && <p className="said">{job.message}</p>}
      {holding && (told ? told(holding) : <Made holding={holding} job={Boolean(job)} />)}
      {older && !holding && (
        <p className="said">
          <span>
            A newer take of <b>{older.name}</b>.
          </span>
          <Button kind="link" onClick={work.forgetAgain}>
            No, something else
          </Button>
        </p>
      )}
      {(running || makes !== null) && (
        <div className="est">
          <span role="status">
            {running ? (job ? "Running" : "Starting") : (makes?.[0] ?? (first?.kind === "surface" ? "Makes" : "Takes"))}
          </span>
          <span>
            {running ? (
              <b className="n">{percent(job?.progress ?? 0)}</b>
            ) : makes ? (
              <b>{makes[1]}</b>
            ) : preview && !stopped ? (
              <b>
                {first?.kind === "surface" && `${many(preview.cells)} cells, `}about{" "}
                <span className="n">{num(Math.max(preview.seconds, 1))}</span> s
              </b>
            ) : null}
          </span>
        </div>
      )}
      {preview?.rough && !stopped && !running && (
        <p className="mut">The map shows it roughly, so that you need not wait. What is made is exact.</p>
      )}
      <div className="go">
        {beside ?? (operation.previews === "none" ? <span /> : <PreviewSwitch />)}
        <span className="pair">
          {live && (
            <Button className="beside" disabled={disabled} onClick={() => work.run(name, true).catch(() => undefined)}>
              Keep live
            </Button>
          )}
          <Button
            kind="primary"
            className={live ? styles.narrow : ""}
            disabled={disabled}
            onClick={() => work.run(name).catch(() => undefined)}
          >
            {action}
          </Button>
        </span>
      </div>
    </>
  );
}
