import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { call, type Holding, type Job } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client, isOpen, useJobs, useOperations } from "../../api/queries";
import { Button } from "../../ui/Button";
import { useHeld, useProject } from "../context";
import { many, percent } from "../format";
import { type Stage, useDesk } from "../store";
import { graphOf, HIGH, laidOut, type Node, newerTakes, staleOf, WIDE } from "./lineage";
import styles from "./recipeTab.module.css";

/** The first few names, and how many more there are. */
const named = (names: string[]): string =>
  names.length > 4 ? `${names.slice(0, 3).join(", ")} and ${names.length - 3} more` : names.join(", ");

/** What the surface in A was made from, back to the files, and what was made from it; each step can be done again. */
export function RecipeTab() {
  const { all, a } = useHeld();
  const [chosen, setChosen] = useState<string | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const graph = a ? graphOf(a, all) : null;
  const { at, width, height } = laidOut(graph ?? { nodes: [], edges: [] });
  const middle = a ? (at.get(String(a.id))?.[0] ?? 0) : 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is looked at comes into sight when it changes
  useEffect(() => {
    const held = box.current;
    if (held) held.scrollLeft = middle - held.clientWidth / 2 + WIDE / 2;
    setChosen(null);
  }, [a?.id]);
  if (!a || !graph) return <p className="empties">Put a surface in A to see what made it.</p>;
  const node = graph.nodes.find(({ id }) => id === (chosen ?? String(a.id))) ?? graph.nodes[0];
  return (
    <div className="recipe">
      <div className={styles.graph} ref={box}>
        <div style={{ width, height, position: "relative" }} role="group" aria-label="What was made from what">
          <svg width={width} height={height} aria-hidden="true">
            {graph.edges.map(([from, to]) => {
              const [x0, y0] = at.get(from) ?? [0, 0];
              const [x1, y1] = at.get(to) ?? [0, 0];
              const [start, end] = [x0 + WIDE, x1];
              const [high, low] = [y0 + HIGH / 2, y1 + HIGH / 2];
              const half = (start + end) / 2;
              return (
                <path key={`${from}>${to}`} d={`M${start} ${high}C${half} ${high} ${half} ${low} ${end} ${low}`} />
              );
            })}
          </svg>
          {graph.nodes.map((one) => (
            <NodeButton
              key={one.id}
              node={one}
              at={at.get(one.id) ?? [0, 0]}
              isA={one.id === String(a.id)}
              chosen={one === node}
              onChoose={() => setChosen(one.id)}
            />
          ))}
        </div>
      </div>
      {node && <About node={node} all={all} />}
    </div>
  );
}

function NodeButton(props: { node: Node; at: [number, number]; isA: boolean; chosen: boolean; onChoose: () => void }) {
  const { node, at, isA, chosen, onChoose } = props;
  const one = node.holdings[0];
  if (!one) return null;
  const several = node.holdings.length > 1;
  const made = one.recipe ? one.recipe.title.toLowerCase() : one.uploaded ? "file" : "kept here";
  return (
    <button
      type="button"
      className={`node${isA ? styles["in-a"] : ""}${one.recipe ? "" : " file"}`}
      aria-pressed={chosen}
      style={{ left: at[0], top: at[1], width: WIDE, height: HIGH }}
      onClick={onChoose}
      title={node.holdings.map(({ name }) => name).join(", ")}
    >
      <b>
        {isA && <span className="chipa">A</span>}
        {several ? `${node.holdings.length} files` : one.name}
      </b>
      <small>
        {node.stale && <span className="warn">out of date · </span>}
        {several
          ? `${one.name} …`
          : one.kind === "surface" && one.recipe
            ? `${made}, ${one.live ? "live" : "stored"}`
            : made}
      </small>
    </button>
  );
}

/** What a step did, and what can be done about it. */
function About({ node, all }: { node: Node; all: Holding[] }) {
  const project = useProject();
  const { data: operations = [] } = useOperations();
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  const put = useDesk((desk) => desk.put);
  const { data: jobs = [] } = useJobs(project.id);
  const [taken, setTaken] = useState<string>("");
  const one = node.holdings[0];
  const newer = one ? newerTakes(all).get(one.id) : undefined;
  const remake = useMutation({
    mutationFn: (instead: number) =>
      call<Job>("POST", `/projects/${project.id}/holdings/${one?.id}/remake`, { instead }),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  if (!one) return null;
  if (node.holdings.length > 1)
    return (
      <div className="about">
        <b>{node.holdings.length} files</b>
        <p className="mut">{node.holdings.map(({ name }) => name).join(", ")}</p>
      </div>
    );
  const recipe = one.recipe;
  const stale = staleOf(all);
  const users = all.filter((other) =>
    Object.values(other.recipe?.input_ids ?? {})
      .flat()
      .includes(one.id),
  );
  const others = all.filter((other) => other.kind === one.kind && other.id !== one.id && !users.includes(other));
  const instead = Number(taken || newer?.id || 0);
  const canEdit = project.role !== "viewer";
  const job = jobs.find(({ id }) => id === remake.data?.id) ?? remake.data;
  const operation = operations.find(({ name }) => name === recipe?.operation);
  return (
    <div className="about">
      <b>{one.name}</b>
      {stale.has(one.id) && (
        <p className="warn">
          Out of date:{" "}
          {one.outdated ? "it is computed otherwise by now." : "something it was made from has a newer take."}
        </p>
      )}
      <p className="acts">
        {one.kind === "surface" && (
          <Button kind="link" onClick={() => put("a", one.key)}>
            Put in A
          </Button>
        )}
        {recipe && operation && canEdit && (
          <Button
            kind="link"
            onClick={() => {
              sheet(recipe.operation, { params: recipe.params, inputs: recipe.input_ids, name: "", again: one.id });
              open(operation.stage as Stage, recipe.operation);
            }}
          >
            Run again with one thing changed
          </Button>
        )}
        {recipe && (
          <a
            className="lnk"
            href={`/api/projects/${project.id}/holdings/${one.id}/recipe`}
            download={`${one.name}.recipe.json`}
          >
            Download the recipe
          </a>
        )}
      </p>
      {users.length > 0 && canEdit && others.length > 0 && (
        <p className="acts">
          <select
            aria-label="Taken instead"
            value={taken || String(newer?.id ?? "")}
            onChange={(event) => setTaken(event.target.value)}
          >
            <option value="">take instead…</option>
            {others.map((other) => (
              <option key={other.id} value={other.id}>
                {other.name}
              </option>
            ))}
          </select>
          <Button
            kind="small"
            disabled={!instead || remake.isPending || (job !== undefined && isOpen(job))}
            onClick={() => remake.mutate(instead)}
          >
            Remake everything below
          </Button>
          {job && isOpen(job) && <span className="mut">{percent(job.progress)}</span>}
          {job?.state === "done" && <span className="mut">made, beside what is there</span>}
          {(remake.error || job?.state === "failed") && (
            <span className="err">{remake.error?.message ?? job?.message}</span>
          )}
        </p>
      )}
      {recipe ? (
        <p>
          {recipe.title} of {named(Object.values(recipe.inputs).join(", ").split(", "))}
        </p>
      ) : (
        <p>{one.original ? `The file ${one.original}, kept as it was.` : "It came with the project."}</p>
      )}
      {recipe && (
        <p className="mut">{recipe.settings.length ? recipe.settings.join(" · ") : "all settings as they come"}</p>
      )}
      {users.length > 0 && (
        <p className="mut">
          {many(users.length)} made from it: {named(users.map(({ name }) => name))}
        </p>
      )}
    </div>
  );
}
