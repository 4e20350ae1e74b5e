import { isOpen, useJobs } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { many, num, percent } from "../desk/format";
import { useDesk } from "../desk/store";
import type { WorksheetState } from "./useWorksheet";

/** Whether what a worksheet would make is shown before it is made. */
export function PreviewSwitch() {
  const previewOn = useDesk((desk) => desk.previewOn);
  const set = useDesk((desk) => desk.set);
  return (
    <label className="sw">
      <input
        type="checkbox"
        role="switch"
        checked={previewOn}
        aria-checked={previewOn}
        onChange={(event) => set({ previewOn: event.target.checked })}
      />
      Preview
    </label>
  );
}

/** What will be made, how large and how long; preview and run; and what became of the last run. */
export function RunFoot({
  work,
  name,
  canBeLive = false,
}: {
  work: WorksheetState;
  name: string;
  canBeLive?: boolean;
}) {
  const project = useProject();
  const put = useDesk((desk) => desk.put);
  const { surfaces, all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const { preview, made } = work;
  const stopped = preview?.findings.some((finding) => finding.weight === "stop");
  const job = jobs.find((one) => one.id === made?.job?.id);
  const holdingId = job?.holding_id ?? made?.holding_id;
  const holding = surfaces.find((one) => one.id === holdingId);
  const older = all.find((one) => one.id === work.sheet.again);
  // from the press on, so that nobody presses twice: until the job is listed, it is at its beginning
  const running = work.starting || (made?.job != null && (!job || isOpen(job)));
  if (!work.canRun) return <p className="remark">Viewers look; only editors and owners make surfaces.</p>;
  return (
    <>
      {(work.refused || work.failed) && (
        <p className="said">
          <span className="err" role="alert">
            {work.refused ?? work.failed}
          </span>
        </p>
      )}
      {job?.state === "failed" && (
        <p className="said">
          <span className="err" role="alert">
            {job.message}
          </span>
        </p>
      )}
      {job?.state === "cancelled" && <p className="said">{job.message}</p>}
      {holding && (
        <p className="said" role="status">
          <span>
            <b style={{ fontWeight: 600 }}>{holding.name}</b> {job ? "is made." : "is this already."}
          </span>
          <span style={{ display: "flex", gap: 6 }}>
            {(["a", "b"] as const).map((slot) => (
              <button key={slot} type="button" className="btn small" onClick={() => put(slot, holding.key)}>
                Put in {slot.toUpperCase()}
              </button>
            ))}
          </span>
        </p>
      )}
      {older && !holding && (
        <p className="said">
          <span>
            A newer take of <b style={{ fontWeight: 600 }}>{older.name}</b>.
          </span>
          <button type="button" className="lnk" onClick={work.forgetAgain}>
            No, something else
          </button>
        </p>
      )}
      <div className="est">
        <span role="status">{running ? (job ? "Running" : "Starting") : "Makes"}</span>
        <span>
          {running ? (
            <b className="n">{percent(job?.progress ?? 0)}</b>
          ) : preview && !stopped ? (
            <b>
              {many(preview.cells)} cells, about <span className="n">{num(Math.max(preview.seconds, 1))}</span> s
            </b>
          ) : null}
        </span>
      </div>
      {preview?.rough && !stopped && !running && (
        <p className="mut">The map shows it roughly, so that you need not wait. What is made is exact.</p>
      )}
      <div className="go">
        <PreviewSwitch />
        <span style={{ display: "flex", gap: 8 }}>
          {canBeLive && (
            <button
              type="button"
              className="btn"
              style={{ height: 30 }}
              disabled={!work.complete || stopped || Boolean(work.refused) || running || work.starting}
              onClick={() => work.run(name, true).catch(() => undefined)}
            >
              Keep live
            </button>
          )}
          <button
            type="button"
            className="primary"
            style={canBeLive ? { minWidth: 84 } : undefined}
            disabled={!work.complete || stopped || Boolean(work.refused) || running || work.starting}
            onClick={() => work.run(name).catch(() => undefined)}
          >
            Run
          </button>
        </span>
      </div>
    </>
  );
}
