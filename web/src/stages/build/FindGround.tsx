import { useEffect, useState } from "react";
import type { Holding } from "../../api/client";
import { isOpen, useJobs, useStart } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num, percent } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Refusal } from "../../ui/Refusal";
import { OperationSheet } from "../OperationSheet";
import { useWorksheet } from "../useWorksheet";

/** Whether a cloud has points that are classified as ground. */
const hasGround = (one: Holding) => (one.cloud?.classes["2"] ?? 0) > 0;

interface Started {
  name: string;
  job: string | null;
}

/** Ground and noise for clouds without classes: each chosen cloud gives a new one, in a job of its own. */
export function FindGround() {
  const project = useProject();
  const { clouds } = useHeld();
  const work = useWorksheet("find_ground");
  const { setInput } = work;
  const [on] = work.ids("cloud");
  const { data: jobs = [] } = useJobs(project.id);
  const start = useStart(project.id);
  const [started, setStarted] = useState<Started[]>([]);
  const raw = clouds.filter((one) => !one.recipe);
  const [picked, setPicked] = useState<number[] | null>(null);
  const bare = raw.filter((one) => !hasGround(one));
  const chosen = raw.filter((one) => (picked ? picked.includes(one.id) : (bare.length ? bare : raw).includes(one)));
  const first = chosen[0];
  const others = (id: number) => raw.filter((one) => one.id !== id).map((one) => one.id);

  // what is checked is checked on the first of them
  useEffect(() => {
    if (first && on !== first.id) setInput("cloud", first.id);
  }, [first, on, setInput]);

  const run = async () => {
    setStarted([]);
    const params = work.request?.params ?? {};
    for (const one of chosen) {
      const beside = others(one.id);
      const accepted = await start.mutateAsync({
        path: "/runs",
        body: {
          operation: "find_ground",
          params,
          inputs: { cloud: one.id, ...(beside.length ? { beside } : {}) },
          name: `${one.name} with ground`,
        },
      });
      setStarted((before) => [...before, { name: one.name, job: accepted.job?.id ?? null }]);
    }
  };
  const stopped = work.preview?.findings.some((finding) => finding.weight === "stop");
  const foot = work.canRun ? (
    <>
      <Refusal sentence={work.refused ?? start.error?.message} />
      {started.map((one) => {
        const job = jobs.find((other) => other.id === one.job);
        return (
          <p className="said" role="status" key={one.name}>
            <span>{one.name}</span>
            <span>
              {one.job === null
                ? "is there already"
                : !job
                  ? "waits"
                  : isOpen(job)
                    ? percent(job.progress)
                    : job.state === "done"
                      ? "is made"
                      : job.message}
            </span>
          </p>
        );
      })}
      <div className="est">
        <span>Makes</span>
        <span>
          <b>
            <span className="n">{num(chosen.length)}</span> new {chosen.length === 1 ? "cloud" : "clouds"}
          </b>
        </span>
      </div>
      <div className="go">
        <span />
        <Button
          kind="primary"
          disabled={!chosen.length || stopped || Boolean(work.refused) || start.isPending}
          onClick={() => run().catch(() => undefined)}
        >
          Find ground
        </Button>
      </div>
    </>
  ) : (
    <p className="remark">Viewers look; only editors and owners make clouds.</p>
  );
  return (
    <OperationSheet
      work={work}
      name=""
      foot={foot}
      parts={[
        {
          title: "What goes in",
          aside: `${num(chosen.reduce((sum, one) => sum + (one.cloud?.count ?? 0), 0))} points`,
          of: [
            <Checks key="clouds" label="Clouds to classify" across={1}>
              {raw.map((one) => (
                <Check
                  key={one.id}
                  label={one.name}
                  figure={hasGround(one) ? "has ground" : "no ground"}
                  checked={chosen.includes(one)}
                  onChange={(checked) => {
                    const ids = chosen.map((each) => each.id);
                    setPicked(checked ? [...ids, one.id] : ids.filter((id) => id !== one.id));
                  }}
                />
              ))}
            </Checks>,
          ],
        },
        {
          title: "Ground",
          of: [
            "window",
            "cell",
            "slope",
            "near",
            <p key="says" className="hint">
              What stands out of the lowest returns by more than the slope allows over its width is no ground. Points
              near the ground that is left are.
            </p>,
          ],
        },
        {
          title: "Noise",
          of: [
            "noise",
            "few",
            "cube",
            <p key="says" className="hint">
              {work.params.noise && "A point lies alone with no more others than that in the 27 cubes around it. "}
              Water, buildings and other classes that are given stay, and the untouched clouds stay beside the new ones.
            </p>,
          ],
        },
      ]}
    />
  );
}
