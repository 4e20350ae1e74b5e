import { useEffect, useState } from "react";
import type { Holding } from "../../api/client";
import { isOpen, useJobs, useStart } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num, percent } from "../../desk/format";
import { Findings, NumberField, Section, Sheet } from "../parts";
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
  const work = useWorksheet("find_ground", ["cloud"]);
  const { params, setParams, setInput, inputs } = work;
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
    if (first && inputs.cloud !== first.id) setInput("cloud", first.id);
  }, [first, inputs.cloud, setInput]);

  const run = async () => {
    setStarted([]);
    const sent = Object.fromEntries(Object.entries(params).filter(([, value]) => value !== null));
    for (const one of chosen) {
      const beside = others(one.id);
      const accepted = await start.mutateAsync({
        path: "/runs",
        body: {
          operation: "find_ground",
          params: sent,
          inputs: { cloud: one.id, ...(beside.length ? { beside } : {}) },
          name: `${one.name} with ground`,
        },
      });
      setStarted((before) => [...before, { name: one.name, job: accepted.job?.id ?? null }]);
    }
  };
  const value = (name: string, usual: number) => (params[name] as number | null | undefined) ?? usual;
  const field = (label: string, name: string, unit: string, usual: number) => (
    <NumberField
      label={label}
      unit={unit}
      value={value(name, usual)}
      onChange={(next) => setParams({ [name]: next })}
    />
  );
  const noise = (params.noise as boolean | undefined) ?? true;
  const stopped = work.preview?.findings.some((finding) => finding.weight === "stop");
  if (!raw.length)
    return (
      <Sheet stage="Build" title="Find ground points">
        <p className="remark">No point cloud yet. Add LAS or LAZ files in Gather.</p>
      </Sheet>
    );
  const foot = work.canRun ? (
    <>
      {(work.refused || start.error) && (
        <p className="said">
          <span className="err" role="alert">
            {work.refused ?? start.error?.message}
          </span>
        </p>
      )}
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
        <button
          type="button"
          className="primary"
          disabled={!chosen.length || stopped || Boolean(work.refused) || start.isPending}
          onClick={() => run().catch(() => undefined)}
        >
          Find ground
        </button>
      </div>
    </>
  ) : (
    <p className="remark">Viewers look; only editors and owners make clouds.</p>
  );
  return (
    <Sheet stage="Build" title="Find ground points" foot={foot}>
      <Section
        title="What goes in"
        aside={`${num(chosen.reduce((sum, one) => sum + (one.cloud?.count ?? 0), 0))} points`}
      >
        <div
          className="checks wide"
          role="group"
          aria-label="Clouds to classify"
          style={{ gridTemplateColumns: "1fr" }}
        >
          {raw.map((one) => (
            <label className="ck one" key={one.id}>
              <input
                type="checkbox"
                checked={chosen.includes(one)}
                onChange={() => {
                  const ids = chosen.map((each) => each.id);
                  setPicked(chosen.includes(one) ? ids.filter((id) => id !== one.id) : [...ids, one.id]);
                }}
              />
              {one.name}
              <span className="n">{hasGround(one) ? "has ground" : "no ground"}</span>
            </label>
          ))}
        </div>
      </Section>
      <Section title="Ground">
        <div className="row two">
          {field("Widest thing", "window", "m", 20)}
          {field("Cells", "cell", "m", 1)}
        </div>
        <div className="row two">
          {field("Steepest", "slope", "%", 30)}
          {field("Within", "near", "m", 0.4)}
        </div>
        <p className="mut" style={{ fontSize: 12, lineHeight: "16px", marginTop: 6 }}>
          What stands out of the lowest returns by more than the slope allows over its width is no ground. Points near
          the ground that is left are.
        </p>
      </Section>
      <Section title="Noise">
        <label className="ck one">
          <input type="checkbox" checked={noise} onChange={(event) => setParams({ noise: event.target.checked })} />
          Points that lie alone or under the ground
        </label>
        {noise && (
          <div className="row two">
            {field("Others", "few", "", 2)}
            {field("In cubes of", "cube", "m", 4)}
          </div>
        )}
        <p className="mut" style={{ fontSize: 12, lineHeight: "16px", marginTop: 6 }}>
          {noise && "A point lies alone with no more others than that in the 27 cubes around it. "}
          Water, buildings and other classes that are given stay, and the untouched clouds stay beside the new ones.
        </p>
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
