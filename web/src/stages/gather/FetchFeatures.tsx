import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Accepted, type Collection, call, type FeatureValue } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client, isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { Refusal } from "../../ui/Refusal";
import { Section, Sheet } from "../../ui/Sheet";
import { TextField } from "../../ui/TextField";
import { Arrival } from "./Arrival";

const LISTED = 12;

/** How many features have each value of kind or name, the most first; of those only that `count` lets through. */
function counted(values: FeatureValue[], by: "kind" | "name", count: (one: FeatureValue) => boolean) {
  const counts = new Map<string, number>();
  for (const one of values) if (one[by] && count(one)) counts.set(one[by], (counts.get(one[by]) ?? 0) + one.count);
  return [...counts].sort(([, one], [, other]) => other - one);
}

const turned = (held: string[], one: string, on: boolean) =>
  on ? [...held, one] : held.filter((other) => other !== one);

/** Rivers, roads, boundaries, land cover and names from the provider of map features: any kinds and spellings at once. */
export function FetchFeatures() {
  const project = useProject();
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const view = useDesk((desk) => desk.bounds);
  const [collection, setCollection] = useState("");
  const [kinds, setKinds] = useState<string[]>([]);
  const [names, setNames] = useState<string[]>([]);
  const [like, setLike] = useState("");
  const [where, setWhere] = useState("frame");
  const { data: collections = [], error } = useQuery({
    queryKey: KEYS.collections(project.id),
    queryFn: () => call<Collection[]>("GET", `/projects/${project.id}/feature-collections`),
    retry: false,
    refetchInterval: (query) => (query.state.error ? 5_000 : false),
  });
  const chosen = collections.find((one) => one.name === collection) ?? collections[0];
  const { data: values = [], error: uncounted } = useQuery({
    queryKey: KEYS.collections(project.id, chosen?.name),
    queryFn: () => call<FeatureValue[]>("GET", `/projects/${project.id}/feature-collections/${chosen?.name}/values`),
    enabled: chosen !== undefined,
    staleTime: 600_000,
    retry: false,
  });
  const fetch = useMutation({
    mutationFn: () =>
      call<Accepted>("POST", `/projects/${project.id}/features`, {
        collection: chosen?.name,
        kinds,
        names,
        bounds: where === "view" ? view : null,
      }),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const job = jobs.find((one) => one.id === fetch.data?.job?.id);
  const holding = all.find((one) => one.id === job?.holding_id);
  const kindsOf = counted(values, "kind", () => true);
  const namesOf = counted(values, "name", (one) => !kinds.length || kinds.includes(one.kind));
  const found = namesOf.filter(
    ([name]) => names.includes(name) || name.toLowerCase().includes(like.trim().toLowerCase()),
  );
  const listed = [
    ...found.filter(([name]) => names.includes(name)),
    ...found.filter(([name]) => !names.includes(name)).slice(0, LISTED),
  ];
  const wanted = values
    .filter((one) => (!kinds.length || kinds.includes(one.kind)) && (!names.length || names.includes(one.name)))
    .reduce((sum, one) => sum + one.count, 0);
  const running = job ? isOpen(job) : false;
  return (
    <Sheet
      stage="Gather"
      title="Fetch map features"
      lead="Rivers, roads, boundaries, land cover and place names as Waymark has them."
      foot={
        <>
          <Refusal sentence={fetch.error?.message ?? (job?.state === "failed" ? job.message : null)} />
          <div className="est">
            <span>{running ? "Fetching" : "In the frame"}</span>
            <b>
              {values.length > 0 && (
                <>
                  <span className="n">{num(wanted)}</span> {wanted === 1 ? "feature" : "features"}
                </>
              )}
            </b>
          </div>
          <div className="go">
            <span />
            <Button
              kind="primary"
              disabled={!chosen || project.role === "viewer" || fetch.isPending || running}
              onClick={() => fetch.mutate()}
            >
              Fetch
            </Button>
          </div>
        </>
      }
    >
      <Section title="What">
        {error ? (
          <p className="fail" role="alert">
            {error.message}
          </p>
        ) : (
          <Choice
            label="Features"
            value={chosen?.name ?? ""}
            options={collections.map((one) => ({ value: one.name, title: one.title }))}
            onChange={(next) => {
              setCollection(next);
              setKinds([]);
              setNames([]);
            }}
          />
        )}
        {kindsOf.length > 1 && (
          <Checks label="Kinds">
            {kindsOf.map(([kind, count]) => (
              <Check
                key={kind}
                label={kind.replaceAll("_", " ")}
                figure={num(count)}
                checked={kinds.includes(kind)}
                onChange={(on) => setKinds(turned(kinds, kind, on))}
              />
            ))}
          </Checks>
        )}
        {kindsOf.length > 1 && !kinds.length && <p className="hint">Every kind, until some are chosen.</p>}
        {uncounted && !error && (
          <p className="fail" role="alert">
            Kinds and names could not be listed. {uncounted.message}
          </p>
        )}
      </Section>
      {namesOf.length > 0 && (
        <Section title="Names" aside={names.length ? `${num(names.length)} chosen` : "every name"}>
          <TextField label="Find a name" value={like} placeholder="any part of it" onChange={setLike} />
          <Checks label="Names">
            {listed.map(([name, count]) => (
              <Check
                key={name}
                label={name}
                figure={num(count)}
                checked={names.includes(name)}
                onChange={(on) => setNames(turned(names, name, on))}
              />
            ))}
          </Checks>
          {found.length > listed.length && (
            <p className="hint">
              <span className="n">{num(found.length - listed.length)}</span> more; find them by a part of the name.
            </p>
          )}
        </Section>
      )}
      <Section title="Where">
        <Choice
          label="Area"
          value={where}
          options={[
            { value: "frame", title: "the whole frame" },
            { value: "view", title: "this view" },
          ]}
          onChange={setWhere}
        />
      </Section>
      {holding && <Arrival holding={holding} />}
    </Sheet>
  );
}
