import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import {
  type Accepted,
  ApiError,
  type Question as Asked,
  call,
  type Finding,
  type TableLook,
  upload,
} from "../../api/client";
import { KEYS } from "../../api/keys";
import { client, isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { percent } from "../../desk/format";
import { DropZone } from "../../ui/DropZone";
import { Section, Sheet } from "../../ui/Sheet";
import { TextField } from "../../ui/TextField";
import { Findings } from "../Findings";
import { Arrival } from "./Arrival";
import { bundles, packed } from "./bundle";
import { ColumnMatch } from "./ColumnMatch";
import { Question } from "./Question";

interface Sending {
  id: number;
  name: string;
  share: number;
  jobId: string | null;
  holdingId: number | null;
  /** A table that is looked at before it is taken in. */
  table: TableLook | null;
  /** What must be known of a file before it is taken in. */
  question: Asked | null;
  error: string;
}

/** Bring in files: dropped or chosen, sent as they are, inspected as they arrive. */
export function AddFiles() {
  const project = useProject();
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const [sending, setSending] = useState<Sending[]>([]);
  const [crs, setCrs] = useState("");
  const number = useRef(0);

  const change = (id: number, values: Partial<Sending>) =>
    setSending((list) => list.map((one) => (one.id === id ? { ...one, ...values } : one)));
  const fromZips = all.filter((one) => sending.some((sent) => sent.name === one.origin.zip));

  const send = async (files: File[]) => {
    // the list is emptied under our hands when the field is
    for (const bundle of bundles(files)) {
      number.current += 1;
      const id = number.current;
      setSending((list) => [
        { id, name: bundle.name, share: 0, jobId: null, holdingId: null, table: null, question: null, error: "" },
        ...list,
      ]);
      try {
        const answer = await upload(project.id, await packed(bundle), crs.trim(), (share) => change(id, { share }));
        change(id, {
          share: 1,
          jobId: answer.job?.id ?? null,
          holdingId: answer.holding_id ?? null,
          table: answer.table ?? null,
          question: answer.question ?? null,
        });
        client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      } catch (failure) {
        change(id, { error: failure instanceof ApiError ? failure.message : String(failure) });
      }
    }
  };
  // what a job asks while it takes a file in: of a zip, or once all of a file was read
  const asked = jobs.filter(
    (job) => job.question && !sending.some((sent) => sent.question?.file_key === job.question?.file_key),
  );
  const taken = (id: number | null, answer: Accepted) => {
    if (id !== null)
      change(id, { table: null, question: null, jobId: answer.job?.id ?? null, holdingId: answer.holding_id ?? null });
    client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
  };
  const leave = useMutation({
    mutationFn: (job: string) => call("POST", `/projects/${project.id}/jobs/${job}/seen`),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const mayAdd = project.role !== "viewer";
  return (
    <Sheet
      stage="Gather"
      title="Add files"
      lead="Surfaces, points, clouds, lines, polygons, images and pictures, one by one or in a zip. Choose what belongs together at once: a shapefile's parts, a raster and its world file."
    >
      {mayAdd ? (
        <>
          <DropZone label="Files to add" onFiles={send}>
            Drop files here, or
          </DropZone>
          <Section title="Where a file does not say">
            <TextField
              label="CRS"
              value={crs}
              placeholder={`${project.frame.grid.crs.slice(0, 24)}, the frame's`}
              onChange={setCrs}
            />
          </Section>
        </>
      ) : (
        <p className="remark">Viewers look; only editors and owners add files.</p>
      )}
      {sending.map((one) => {
        const job = jobs.find((candidate) => candidate.id === one.jobId);
        const holding = all.find((candidate) => candidate.id === (job?.holding_id ?? one.holdingId));
        const error = one.error || (job?.state === "failed" ? job.message : "");
        if (one.table)
          return (
            <ColumnMatch
              key={one.id}
              table={one.table}
              crs={crs.trim()}
              look={(declared) =>
                call<TableLook>("POST", `/projects/${project.id}/uploads/${one.table?.file_key}/look`, {
                  name: one.table?.name,
                  declared,
                })
              }
              take={(declared) =>
                call<Accepted>("POST", `/projects/${project.id}/uploads/${one.table?.file_key}/take`, {
                  name: one.table?.name,
                  declared,
                })
              }
              onTaken={(answer) => taken(one.id, answer)}
              onLeave={() => setSending((list) => list.filter((other) => other.id !== one.id))}
            />
          );
        if (one.question)
          return (
            <Question
              key={one.id}
              question={one.question}
              onTaken={(answer) => taken(one.id, answer)}
              onLeave={() => setSending((list) => list.filter((other) => other.id !== one.id))}
            />
          );
        if (job?.question) return null; // asked below
        if (holding && !error)
          return <Arrival key={one.id} holding={holding} note={one.holdingId ? "was here already" : undefined} />;
        const looking = job && isOpen(job);
        return (
          <section className="sec" key={one.id} aria-label={one.name}>
            <h2>
              {one.name}
              <small>
                {error
                  ? "not added"
                  : one.share < 1
                    ? percent(one.share)
                    : looking
                      ? `looking at it, ${percent(job.progress)}`
                      : job?.state === "done"
                        ? "unpacked"
                        : "waiting"}
              </small>
            </h2>
            {(one.share < 1 || looking) && !error && (
              <div className="bar" role="progressbar" aria-label={`Progress of ${one.name}`}>
                <i style={{ width: `${Math.max((one.share < 1 ? one.share : (job?.progress ?? 0)) * 100, 2)}%` }} />
              </div>
            )}
            {job?.state === "done" && job.findings.length > 0 && (
              <Findings findings={job.findings as unknown as Finding[]} bare />
            )}
            {error && (
              <p className="fail" role="alert">
                {error}
              </p>
            )}
          </section>
        );
      })}
      {asked.map(
        (job) =>
          job.question && (
            <Question
              key={job.id}
              question={job.question}
              onTaken={(answer) => taken(sending.find((sent) => sent.jobId === job.id)?.id ?? null, answer)}
              onLeave={() => leave.mutate(job.id)}
            />
          ),
      )}
      {fromZips.map((holding) => (
        <Arrival key={holding.id} holding={holding} />
      ))}
    </Sheet>
  );
}
