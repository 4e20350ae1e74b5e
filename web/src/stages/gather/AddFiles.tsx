import { useRef, useState } from "react";
import { ApiError, type Holding, upload } from "../../api/client";
import { client, isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num, percent, size } from "../../desk/format";
import { Findings, Section, Sheet } from "../parts";

interface Sending {
  id: number;
  name: string;
  share: number;
  jobId: string | null;
  holdingId: number | null;
  error: string;
}

function Arrival({ holding }: { holding: Holding }) {
  const found = holding.surface;
  return (
    <div style={{ fontSize: 12, lineHeight: "17px" }}>
      <b style={{ fontWeight: 600 }}>{holding.name}</b>{" "}
      {found ? (
        <span className="mut">
          surface,{" "}
          <span className="n">
            {num(found.cols)} × {num(found.rows)}
          </span>{" "}
          cells of <span className="n">{size(found.cell_size)}</span> m,{" "}
          <span className="n">{num(found.statistics.lowest, 2)}</span> to{" "}
          <span className="n">{num(found.statistics.highest, 2)}</span> {found.unit},{" "}
          <span className="n">{percent(found.statistics.empty / found.statistics.cells)}</span> empty,{" "}
          {found.crs.slice(0, 30)}
        </span>
      ) : (
        <span className="mut">
          <span className="n">{num(holding.points?.count)}</span> points, heights {holding.points?.height_field} in{" "}
          {holding.points?.unit}, {holding.points?.crs.slice(0, 30)}
        </span>
      )}
      {holding.findings.length > 0 && (
        <div style={{ margin: "4px -16px 0" }}>
          <Findings findings={holding.findings} />
        </div>
      )}
    </div>
  );
}

/** Bring in files: dropped or chosen, sent as they are, inspected as they arrive. */
export function AddFiles() {
  const project = useProject();
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const [sending, setSending] = useState<Sending[]>([]);
  const [over, setOver] = useState(false);
  const [crs, setCrs] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const number = useRef(0);

  const send = async (files: FileList | null) => {
    // the list is emptied under our hands when the field is
    for (const file of Array.from(files ?? [])) {
      number.current += 1;
      const id = number.current;
      const change = (values: Partial<Sending>) =>
        setSending((list) => list.map((one) => (one.id === id ? { ...one, ...values } : one)));
      setSending((list) => [{ id, name: file.name, share: 0, jobId: null, holdingId: null, error: "" }, ...list]);
      try {
        const answer = await upload(project.id, file, crs.trim(), (share) => change({ share }));
        change({ share: 1, jobId: answer.job?.id ?? null, holdingId: answer.holding_id ?? null });
        client.invalidateQueries({ queryKey: ["jobs", project.id] });
      } catch (failure) {
        change({ error: failure instanceof ApiError ? failure.message : String(failure) });
      }
    }
  };
  const mayAdd = project.role !== "viewer";
  return (
    <Sheet
      stage="Gather"
      title="Add files"
      lead="GeoTIFF surfaces, and points as CSV or TXT. Each file is kept as it came."
    >
      {mayAdd ? (
        <>
          {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the button does the same */}
          <div
            className={`drop ${over ? "over" : ""}`}
            onDragOver={(event) => {
              event.preventDefault();
              setOver(true);
            }}
            onDragLeave={() => setOver(false)}
            onDrop={(event) => {
              event.preventDefault();
              setOver(false);
              send(event.dataTransfer.files);
            }}
          >
            Drop files here, or{" "}
            <button type="button" className="lnk" onClick={() => input.current?.click()}>
              choose files
            </button>
            <input
              ref={input}
              type="file"
              multiple
              hidden
              aria-label="Files to add"
              onChange={(event) => {
                send(event.target.files);
                event.target.value = "";
              }}
            />
          </div>
          <Section title="Where a table does not say">
            <div className="row">
              <label htmlFor="crs">CRS</label>
              <span className="field">
                <input
                  id="crs"
                  value={crs}
                  placeholder={`${project.frame.grid.crs.slice(0, 24)}, the frame's`}
                  onChange={(e) => setCrs(e.target.value)}
                />
              </span>
            </div>
          </Section>
        </>
      ) : (
        <p className="remark">Viewers look; only editors and owners add files.</p>
      )}
      {sending.map((one) => {
        const job = jobs.find((candidate) => candidate.id === one.jobId);
        const holding = all.find((candidate) => candidate.id === (job?.holding_id ?? one.holdingId));
        const error = one.error || (job?.state === "failed" ? job.message : "");
        return (
          <section className="sec" key={one.id} aria-label={one.name}>
            <h2>
              {one.name}
              <small>
                {error
                  ? "not added"
                  : holding
                    ? one.holdingId
                      ? "was here already"
                      : "added"
                    : one.share < 1
                      ? percent(one.share)
                      : job && isOpen(job)
                        ? "looking at it"
                        : "waiting"}
              </small>
            </h2>
            {error && (
              <p className="find bad" role="alert" style={{ padding: 0 }}>
                {error}
              </p>
            )}
            {holding && <Arrival holding={holding} />}
          </section>
        );
      })}
    </Sheet>
  );
}
