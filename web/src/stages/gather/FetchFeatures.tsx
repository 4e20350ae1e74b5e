import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Accepted, type Collection, call } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client, isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Section, Sheet } from "../../ui/Sheet";
import { Arrival } from "./Arrival";

/** Rivers, roads, boundaries, land cover and names from the provider of map features, by kind and name. */
export function FetchFeatures() {
  const project = useProject();
  const { all } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const view = useDesk((desk) => desk.bounds);
  const [collection, setCollection] = useState("");
  const [kind, setKind] = useState("");
  const [name, setName] = useState("");
  const [where, setWhere] = useState("frame");
  const { data: collections = [], error } = useQuery({
    queryKey: KEYS.collections(project.id),
    queryFn: () => call<Collection[]>("GET", `/projects/${project.id}/feature-collections`),
    retry: false,
    refetchInterval: (query) => (query.state.error ? 5_000 : false),
  });
  const chosen = collections.find((one) => one.name === collection) ?? collections[0];
  const fetch = useMutation({
    mutationFn: () =>
      call<Accepted>("POST", `/projects/${project.id}/features`, {
        collection: chosen?.name,
        kind,
        name: name.trim(),
        bounds: where === "view" ? view : null,
      }),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const job = jobs.find((one) => one.id === fetch.data?.job?.id);
  const holding = all.find((one) => one.id === job?.holding_id);
  return (
    <Sheet
      stage="Gather"
      title="Fetch map features"
      lead="Rivers, roads, boundaries, land cover and place names as Waymark has them."
      foot={
        <>
          {(fetch.error || job?.state === "failed") && (
            <p className="said">
              <span className="err" role="alert">
                {fetch.error?.message ?? job?.message}
              </span>
            </p>
          )}
          <div className="go">
            <span className="mut">{job && isOpen(job) ? "Fetching." : ""}</span>
            <Button
              kind="primary"
              disabled={!chosen || project.role === "viewer" || fetch.isPending || Boolean(job && isOpen(job))}
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
          <>
            <Choice
              label="Features"
              value={chosen?.name ?? ""}
              options={collections.map((one) => ({ value: one.name, title: one.title }))}
              onChange={(next) => {
                setCollection(next);
                setKind("");
              }}
            />
            <Choice
              label="Kind"
              value={kind || "every"}
              options={[
                { value: "every", title: "every kind" },
                ...(chosen?.kinds ?? []).map((one) => ({ value: one, title: one })),
              ]}
              onChange={(next) => setKind(next === "every" ? "" : next)}
            />
            <div className="row">
              <label htmlFor="feature-name">Name</label>
              <span className="field">
                <input
                  id="feature-name"
                  className="text"
                  value={name}
                  placeholder="any"
                  onChange={(event) => setName(event.target.value)}
                />
              </span>
            </div>
          </>
        )}
      </Section>
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
