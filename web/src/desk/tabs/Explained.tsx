import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { call, type Job, type Explained as Told } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client, isOpen, useJobs } from "../../api/queries";
import { Button } from "../../ui/Button";
import { useProject } from "../context";
import { num, shortUnit } from "../format";
import styles from "./explained.module.css";

type Line = Told["lines"][number];

const signed = (value: number) => `${value > 0 ? "+" : ""}${num(value, 2)}`;
const KINDS: Record<string, string> = {
  patch: "patch",
  points: "points",
  cloud: "point cloud",
  features: "features",
  image: "image",
};

function Row({ line }: { line: Line }) {
  const unit = shortUnit(line.unit);
  const { depth, name, kind, operation, said, height, change, weight, uncertainty, remark } = line;
  const made = operation ? `${operation}${said ? `: ${said}` : ""}` : said;
  return (
    <tr>
      <td className={styles.name} style={{ paddingLeft: 4 + 16 * depth }}>
        {depth > 0 && <i aria-hidden="true">└</i>} <b>{name}</b>
        {KINDS[kind] && kind !== "surface" && <span className="mut"> {KINDS[kind]}</span>}
      </td>
      <td className="n">{weight == null ? "" : `${num(100 * weight)} %`}</td>
      <td className="n">{height == null ? (kind === "surface" ? "empty" : "") : `${num(height, 2)} ${unit}`}</td>
      <td className="n">{change == null ? "" : `${signed(change)} ${unit}`}</td>
      <td className="n">{uncertainty == null ? "" : `± ${num(uncertainty, 2)} ${unit}`}</td>
      <td className={styles.made}>
        {made}
        {made && remark ? ". " : ""}
        {remark}
      </td>
    </tr>
  );
}

interface Props {
  id: number;
  x: number;
  y: number;
  onBack: () => void;
}

/** Where the height of a surface at a place comes from, from the surface back to the files. */
export function Explained({ id, x, y, onBack }: Props) {
  const project = useProject();
  const { data: jobs = [] } = useJobs(project.id);
  const ask = useMutation({
    mutationFn: () => call<{ job: Job }>("POST", `/projects/${project.id}/holdings/${id}/explain`, { x, y }),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const { mutate } = ask;
  useEffect(() => mutate(), [mutate]);
  const asked = ask.data?.job.id;
  const job = jobs.find((one) => one.id === asked);
  const { data } = useQuery({
    queryKey: KEYS.explained(project.id, asked),
    queryFn: () => call<Told>("GET", `/projects/${project.id}/explained/${asked}`),
    enabled: job?.state === "done",
    retry: false,
  });
  const failed = ask.error?.message ?? (job && !isOpen(job) && job.state !== "done" ? job.message || "Stopped." : "");
  const first = data?.lines[0];
  return (
    <div className="tabpad">
      <p className={styles.head}>
        <Button kind="link" onClick={onBack}>
          Back to the readings
        </Button>
        {first && (
          <b>
            Where{" "}
            {first.height == null ? (
              "nothing"
            ) : (
              <span className="n">{`${num(first.height, 2)} ${shortUnit(first.unit)}`}</span>
            )}{" "}
            of {first.name} comes from
          </b>
        )}
        <span className="mut" role="status">
          {failed || (data ? "" : "Following it back to the files …")}
          {failed && (
            <>
              {" "}
              <Button kind="link" onClick={() => mutate()}>
                Try again
              </Button>
            </>
          )}
        </span>
      </p>
      {data && (
        <table className={`t ${styles.table}`} aria-label="Where it comes from">
          <thead>
            <tr>
              <th className="w">what</th>
              <th title="By how much the one above rises where this does">share</th>
              <th>height here</th>
              <th title="Against what it was made from">change</th>
              <th title="One standard deviation, as it says of itself">uncertainty</th>
              <th className="w">how it was made</th>
            </tr>
          </thead>
          <tbody>
            {data.lines.map((line, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: lines of one answer do not change their order
              <Row key={i} line={line} />
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
