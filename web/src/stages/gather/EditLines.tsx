import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import type { Accepted, Holding } from "../../api/client";
import { KEYS } from "../../api/keys";
import { isOpen, useJobs, useStart } from "../../api/queries";
import { type ConditionError, condition } from "../../desk/condition";
import { useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { editOf, useDesk } from "../../desk/store";
import { useDraft } from "../../desk/useDraft";
import { useUndoKey } from "../../desk/useUndoKey";
import { type EditWith, factsOf } from "../../tools/tool";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { Entry } from "../../ui/Entry";
import { NameRow } from "../../ui/NameRow";
import { NumberField } from "../../ui/NumberField";
import { Card } from "../../ui/Radio";
import { Section, Sheet } from "../../ui/Sheet";
import { HoldingChoice } from "../HoldingChoice";
import styles from "./editLines.module.css";
import { nearestGap } from "./gaps";

const NAME = "edit_features";
const WITH: [EditWith, string][] = [
  ["choose", "Choose"],
  ["reshape", "Reshape"],
  ["split", "Split"],
  ["line", "Line"],
  ["polygon", "Polygon"],
];

/** Which features the next press changes. */
function ChosenOnes({ holding, draft }: { holding: Holding; draft: ReturnType<typeof useDraft> }) {
  const chosen = useDesk((desk) => desk.chosen);
  const set = useDesk((desk) => desk.set);
  const columns = Object.keys(holding.features?.attributes ?? {});
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState("");
  const [gap, setGap] = useState<number | null>(25);
  const [column, setColumn] = useState("");
  const [value, setValue] = useState("");
  const rows = draft.collection?.features ?? [];
  const there = new Set(rows.map((row) => row.id));
  const numbers = chosen.holding === holding.id ? chosen.numbers.filter((number) => there.has(number)) : [];
  const named = columns.includes(column) ? column : (columns[0] ?? "");
  const number = holding.features?.attributes[named] === "number";
  const edit = (what: Record<string, unknown>) => draft.change.mutate({ edit: { ...what, features: numbers } });
  const choose = () => {
    try {
      const test = condition(text, columns);
      setWrong("");
      set({
        chosen: {
          holding: holding.id,
          numbers: rows.filter((row) => test(row.properties)).map((row) => row.id),
        },
      });
    } catch (problem) {
      setWrong(`${(problem as ConditionError).message}.`);
    }
  };
  const { frame } = useProject();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the numbers count, not the list that holds them
  const apart = useMemo(() => {
    const mine = new Set(numbers);
    return nearestGap(
      (draft.collection?.features ?? []).filter((row) => mine.has(row.id)),
      frame.cell_size / frame.grid.cell_width,
    );
  }, [numbers.join(), draft.collection, frame]);
  const none = numbers.length === 0 || draft.change.isPending;
  return (
    <Section title="Chosen" aside={`${num(numbers.length)} of ${num(rows.length)}`}>
      <form
        className={styles["where-row"]}
        onSubmit={(event) => {
          event.preventDefault();
          choose();
        }}
      >
        <Entry
          label="Choose where"
          placeholder={columns[0] ? `where, such as ${columns[0]} = ...` : "no columns to choose by"}
          value={text}
          onChange={setText}
        />
        <Button type="submit" disabled={!text.trim()}>
          Choose
        </Button>
      </form>
      {wrong && (
        <p className="fail" role="alert">
          {wrong}
        </p>
      )}
      <div className="acts edits">
        <Button disabled={none} onClick={() => edit({ kind: "remove" })}>
          Delete
        </Button>
        <Button disabled={numbers.length < 2} onClick={() => edit({ kind: "dissolve" })}>
          Dissolve into one
        </Button>
      </div>
      <div className="row two joined">
        <NumberField label="Gap" unit="m" value={gap} placeholder="0" onChange={setGap} />
        <Button disabled={none} onClick={() => edit({ kind: "join", gap: gap ?? 0 })}>
          Join ends
        </Button>
      </div>
      {apart !== null && (
        <p className="times">
          <span>
            The nearest ends lie <span className="n">{num(apart, 1)}</span> m apart
          </span>
          {apart > (gap ?? 0) && (
            <Button kind="link" onClick={() => setGap(Math.ceil(apart * 10) / 10)}>
              Allow that
            </Button>
          )}
        </p>
      )}
      {columns.length > 0 && (
        <>
          <Choice
            label="Column"
            value={named}
            options={columns.map((one) => ({ value: one, title: one }))}
            onChange={setColumn}
          />
          <form
            className="row two joined"
            onSubmit={(event) => {
              event.preventDefault();
              const typed = Number(value.replace(",", "."));
              const given = value.trim() === "" ? null : number && Number.isFinite(typed) ? typed : value.trim();
              edit({ kind: "set_value", column: named, value: given });
            }}
          >
            <label htmlFor="new-value">Value</label>
            <Entry id="new-value" figures={number} value={value} placeholder="empty" onChange={setValue} />
            <Button type="submit" disabled={none}>
              Set value
            </Button>
          </form>
        </>
      )}
    </Section>
  );
}

/** Lines and polygons changed by hand: chosen on the map or by their columns, with every edit undone at a press. */
export function EditLines() {
  const project = useProject();
  const { features, all } = useHeld();
  const queries = useQueryClient();
  const { data: jobs = [] } = useJobs(project.id);
  const start = useStart(project.id);
  const sheet = useDesk((desk) => desk.sheets[NAME]);
  const change = useDesk((desk) => desk.sheet);
  const edit = useDesk(editOf);
  const take = useDesk((desk) => desk.take);
  const drop = useDesk((desk) => desk.drop);
  const set = useDesk((desk) => desk.set);
  const [made, setMade] = useState<Accepted | null>(null);
  const hidden = useDesk((desk) => desk.hidden);
  // the lines in sight are most likely meant; once chosen they stay
  const [first] = useState(() => hidden);
  const holding =
    features.find((one) => one.id === sheet?.inputs.features) ?? features.find((one) => !first[one.id]) ?? features[0];
  const draft = useDraft(holding);
  const { mutate } = draft.change;
  const { titles, done, said } = draft.draft;
  const id = holding?.id;

  useEffect(() => {
    set({ chosen: { holding: id ?? 0, numbers: [] } });
    if (id !== undefined) {
      take({ kind: "edit", owner: NAME, holding: id, with: "choose", snap: true });
      const { hidden } = useDesk.getState();
      set({ hidden: { ...hidden, [id]: false } });
    }
    return () => {
      drop(NAME);
      set({ chosen: { holding: 0, numbers: [] } });
    };
  }, [id, set, take, drop]);

  useUndoKey(useCallback((again: boolean) => mutate(again ? "redo" : "undo"), [mutate]));

  const job = jobs.find((one) => one.id === made?.job?.id);
  const running = job ? isOpen(job) : false;
  const kept = all.find((one) => one.id === (job?.holding_id ?? made?.holding_id));
  useEffect(() => {
    if (!kept || kept.id === id || id === undefined) return;
    // the untouched lines would lie under the edited ones
    const { hidden } = useDesk.getState();
    set({ hidden: { ...hidden, [id]: true, [kept.id]: false } });
    queries.removeQueries({ queryKey: KEYS.edits(project.id, id) });
    change(NAME, { inputs: { features: kept.id }, name: "" });
  }, [kept, id, set, change, queries, project.id]);

  const refused = draft.refused?.message ?? draft.error?.message ?? start.error?.message;
  const failed = job?.state === "failed" || job?.state === "cancelled" ? job.message : "";
  if (!holding)
    return (
      <Sheet stage="Gather" title="Edit lines">
        <p className="remark">No lines or polygons yet. Add a file of them, or fetch map features.</p>
      </Sheet>
    );
  if (project.role === "viewer")
    return (
      <Sheet stage="Gather" title="Edit lines">
        <p className="remark">Viewers look; only editors and owners edit lines.</p>
      </Sheet>
    );
  return (
    <Sheet
      stage="Gather"
      title="Edit lines"
      lead="Changes are made beside the untouched lines, which stay as they are."
      foot={
        <>
          {(refused || failed) && (
            <p className="said">
              <span className="err" role="alert">
                {refused ?? failed}
              </span>
            </p>
          )}
          {kept?.id === id && (
            <p className="said" role="status">
              <span>
                <b>{kept?.name}</b> is made, and can be edited further.
              </span>
            </p>
          )}
          <div className="go">
            <button
              type="button"
              className="lnk danger"
              disabled={!titles.length || running}
              onClick={() => mutate("drop")}
            >
              Discard edits
            </button>
            <Button
              kind="primary"
              disabled={!done || running || start.isPending}
              onClick={() =>
                start.mutate(
                  { path: `/holdings/${holding.id}/edits/keep`, body: { name: sheet?.name ?? "" } },
                  { onSuccess: setMade },
                )
              }
            >
              {running ? "Keeping" : "Keep edits"}
            </Button>
          </div>
        </>
      }
    >
      <Section title="What">
        <HoldingChoice
          label="Lines"
          holdings={features}
          value={holding.id}
          onChange={(next) => change(NAME, { inputs: { features: next } })}
        />
        <div className={styles.tools} role="radiogroup" aria-label="Tool">
          {WITH.map(([name, title]) => (
            <Card
              key={name}
              className="tool"
              group="edit-tool"
              checked={edit?.with === name}
              onChoose={() => edit && take({ ...edit, with: name })}
            >
              {title}
            </Card>
          ))}
        </div>
        <p className="hint">{edit && factsOf(edit).hint}</p>
        <Check
          label="Snap to vertices and lines nearby"
          checked={edit?.snap ?? true}
          onChange={() => edit && take({ ...edit, snap: !edit.snap })}
        />
      </Section>
      <ChosenOnes key={holding.id} holding={holding} draft={draft} />
      <Section title="Edits" aside={titles.length ? `${num(done)} of ${num(titles.length)}` : "none yet"}>
        <div className="acts edits">
          <Button disabled={!done} onClick={() => mutate("undo")}>
            Undo
          </Button>
          <Button disabled={done === titles.length} onClick={() => mutate("redo")}>
            Redo
          </Button>
        </div>
        {said.map((sentence) => (
          <p key={sentence} className="mut" role="status">
            {sentence}
          </p>
        ))}
        <ol className={styles.editlog} aria-label="Edits made">
          {titles
            .map((title, i) => ({ title, number: i + 1 }))
            .reverse()
            .map(({ title, number }) => (
              <li key={number} className={number > done ? styles.undone : ""}>
                <span className="n">{number}</span> {title}
                {number > done && <span className="mut"> undone</span>}
              </li>
            ))}
        </ol>
        <NameRow
          value={sheet?.name ?? ""}
          usual={`${holding.name} edited`}
          onChange={(name) => change(NAME, { inputs: { features: holding.id }, name })}
        />
      </Section>
    </Sheet>
  );
}
