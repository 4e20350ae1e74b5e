import { useHeld } from "../desk/context";
import { HoldingChoice } from "../stages/HoldingChoice";
import { Button } from "../ui/Button";
import { Check } from "../ui/Check";
import { NumberField } from "../ui/NumberField";
import { Card } from "../ui/Radio";
import { TextField } from "../ui/TextField";
import { Extent } from "./Extent";
import { Inside } from "./Inside";
import styles from "./mend.module.css";
import { OperatorIcon } from "./OperatorIcon";
import { KINDS, OPERATORS, type Operator, patchProperty, settingsOf, usualOperator } from "./operators";
import { RimRow } from "./RimRow";
import { Setting } from "./Setting";
import { useMend } from "./state";
import { useMended, useMendedStack, useUsualHeight } from "./useMended";
import type { PatchEntry } from "./useStack";
import { useTyped } from "./useTyped";

/** A patch that is open: its operator, what can be set, and what it does to the heights inside. */
export function OpenPatch({ entry }: { entry: PatchEntry }) {
  const { surfaces } = useHeld();
  const surface = useMended();
  const stack = useMendedStack();
  const { content, set } = useTyped(entry);
  const { operator } = content;
  const { all, change } = stack;
  const patches = all.filter((one) => one.kind === "patch");
  const at = patches.findIndex((one) => one.name === entry.name);
  const usualHeight = useUsualHeight();
  const choose = (kind: Operator["kind"]) => {
    const named = content.name === OPERATORS[operator.kind].title ? { name: OPERATORS[kind].title } : {};
    useMend.getState().set({ operator: kind });
    set({ ...named, operator: usualOperator(kind, usualHeight()) }, true);
  };
  const put = (to: number) => {
    const rest = patches.filter((one) => one.name !== entry.name);
    change([{ name: entry.name, kind: "patch", before: rest[to]?.name ?? "" }]);
  };
  const property = (name: "feather" | "strength" | "times" | "width") => patchProperty(name);
  return (
    <div className={styles.open}>
      <div className={styles.operators} role="radiogroup" aria-label="Operator">
        {KINDS.map((kind) => (
          <Card
            key={kind}
            className={styles.operator as string}
            title={OPERATORS[kind].does}
            group={`operator-${entry.name}`}
            checked={operator.kind === kind}
            onChoose={() => choose(kind)}
          >
            <OperatorIcon kind={kind} />
            <span>{OPERATORS[kind].title}</span>
          </Card>
        ))}
      </div>
      <p className={styles.does}>{OPERATORS[operator.kind].does}</p>
      <div className={styles.settings}>
        {settingsOf(operator.kind, operator).map(([name, one]) => (
          <Setting
            key={`${operator.kind}.${name}`}
            property={one}
            value={(operator as Record<string, unknown>)[name]}
            onChange={(value) =>
              set({ operator: { ...operator, [name]: value } as Operator }, one.type === "boolean" || Boolean(one.enum))
            }
          />
        ))}
        {content.line && (
          <Setting property={property("width")} value={content.width} onChange={(width) => set({ width })} />
        )}
        <Setting property={property("feather")} value={content.feather} onChange={(feather) => set({ feather })} />
        <NumberField
          label="Strength"
          unit="%"
          value={Math.round(content.strength * 100)}
          placeholder="100"
          bounds={{ words: "Strength: from 1 up to 100 %.", holds: (value) => value >= 1 && value <= 100 }}
          onChange={(value) => {
            const share = (value ?? 100) / 100;
            if (share >= 0.01 && share <= 1) set({ strength: share });
          }}
        />
        <div className="row">
          <span className="lab">Apply again</span>
          <span className={styles.stepper}>
            <Button
              kind="bare"
              aria-label="Once less"
              disabled={content.times <= 1}
              onClick={() => set({ times: content.times - 1 }, true)}
            >
              −
            </Button>
            <b className="n">{content.times} ×</b>
            <Button
              kind="bare"
              aria-label="Once more"
              disabled={content.times >= 20}
              onClick={() => set({ times: content.times + 1 }, true)}
            >
              +
            </Button>
          </span>
        </div>
      </div>
      {operator.kind === "replace" && (
        <HoldingChoice
          label="From"
          holdings={surfaces.filter((one) => one.id !== surface?.id && one.surface?.quantity === "height")}
          value={stack.other ?? undefined}
          onChange={(other) => change({ other })}
        />
      )}
      <Inside content={content} />
      <p className={styles.extent}>
        <Extent content={content} />
        {entry.by && (
          <span className="mut">
            {" "}
            by {entry.by}, {new Date(entry.at).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "short" })}
          </span>
        )}
      </p>
      <details className={styles.more}>
        <summary>Name, note, rim, place</summary>
        <TextField
          label="Name"
          value={content.name}
          placeholder={OPERATORS[operator.kind].title}
          maxLength={120}
          onChange={(name) => set({ name })}
        />
        <TextField
          label="Note"
          value={content.note}
          placeholder="why, and from what"
          maxLength={1000}
          onChange={(note) => set({ note })}
        />
        <RimRow entry={entry} />
        <Check
          label="Over keep-outs too"
          checked={content.over_keep_outs}
          onChange={(over_keep_outs) => set({ over_keep_outs }, true)}
        />
        <div className="acts edits">
          <Button kind="small" disabled={at <= 0} onClick={() => put(at - 1)}>
            Earlier
          </Button>
          <Button kind="small" disabled={at === patches.length - 1} onClick={() => put(at + 1)}>
            Later
          </Button>
          <Button
            kind="small"
            onClick={() => {
              change([{ name: entry.name, kind: "patch", gone: true }]);
              useMend.getState().set({ chosen: null });
            }}
          >
            Remove
          </Button>
        </div>
      </details>
    </div>
  );
}
