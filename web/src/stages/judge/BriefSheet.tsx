import { useState } from "react";
import { useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { BriefMet } from "../../judge/BriefMet";
import styles from "../../judge/brief.module.css";
import { DemandForm } from "../../judge/DemandForm";
import { type DemandKind, isWhole, KINDS, type Settings } from "../../judge/demands";
import { useBrief } from "../../judge/useBrief";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { Refusal } from "../../ui/Refusal";
import { Section, Sheet } from "../../ui/Sheet";

/** What is asked of the project's surfaces: demands that are checked of the surface in A, and of all that is handed over. */
export function BriefSheet() {
  const project = useProject();
  const { points } = useHeld();
  const { brief, demands, error, change } = useBrief();
  const [edited, setEdited] = useState<{ at: number; demand: Settings } | null>(null);
  const editor = project.role !== "viewer";
  const held = demands.map((one) => one.content as Settings);
  const vegetated = brief?.vegetated ?? [];
  const codes = Object.keys(points.find((one) => one.id === project.checkpoints_id)?.points.codes ?? {});
  const say = (to: { demands?: Settings[]; vegetated?: string[] }, then?: () => void) =>
    change.mutate({ demands: held, vegetated, ...to }, { onSuccess: then });
  const form = edited && (
    <fieldset className={styles.form} aria-label="Demand">
      <DemandForm
        demand={edited.demand}
        onChange={(to) => setEdited({ ...edited, demand: { ...edited.demand, ...to } })}
      />
      {change.error && <Refusal sentence={change.error.message} />}
      <div className="acts">
        <Button
          disabled={change.isPending || !isWhole(edited.demand)}
          onClick={() => {
            const next = [...held];
            next[edited.at] = edited.demand;
            say({ demands: next }, () => setEdited(null));
          }}
        >
          Keep
        </Button>
        <Button
          kind="link"
          onClick={() => {
            change.reset();
            setEdited(null);
          }}
        >
          Cancel
        </Button>
      </div>
    </fieldset>
  );
  return (
    <Sheet
      stage="Judge"
      title="Brief"
      lead="What is asked of this project's surfaces. It is checked of the surface in A, and of all that is handed over."
    >
      <BriefMet editing />
      <Section title="What is asked" aside={demands.length ? num(demands.length) : undefined}>
        {error && <Refusal sentence={error.message} />}
        {brief && !demands.length && <p className="mut">Nothing yet.</p>}
        {demands.map(({ title, content }, i) =>
          edited?.at === i ? (
            <div key={title}>{form}</div>
          ) : (
            <div key={title} className={styles.demand}>
              <span>{title}</span>
              {editor && (
                <>
                  <Button
                    kind="link"
                    aria-label={`Change: ${title}`}
                    onClick={() => {
                      change.reset();
                      setEdited({ at: i, demand: content as Settings });
                    }}
                  >
                    Change
                  </Button>
                  <Button
                    kind="link"
                    className="danger"
                    aria-label={`Remove: ${title}`}
                    disabled={change.isPending}
                    onClick={() => {
                      setEdited(null);
                      say({ demands: held.filter((_, j) => j !== i) });
                    }}
                  >
                    Remove
                  </Button>
                </>
              )}
            </div>
          ),
        )}
        {edited && edited.at >= demands.length && form}
        {!edited && change.error && <Refusal sentence={change.error.message} />}
        {editor && !edited && (
          <Choice
            label="Ask for"
            value=""
            empty="choose what"
            options={KINDS}
            onChange={(kind) => {
              change.reset();
              const { begin } = KINDS.find((one) => one.value === kind) ?? { begin: {} };
              setEdited({ at: demands.length, demand: { kind: kind as DemandKind, ...begin } });
            }}
          />
        )}
      </Section>
      {codes.length > 0 && (
        <Section title="Vegetation">
          <p className="mut small-print">
            Under these the statement of accuracy tells the 95th percentile; elsewhere 1.96 RMSE.
          </p>
          {editor ? (
            <Checks label="Vegetation">
              {codes.map((one) => (
                <Check
                  key={one}
                  label={one}
                  checked={vegetated.includes(one)}
                  onChange={(on) => say({ vegetated: on ? [...vegetated, one] : vegetated.filter((it) => it !== one) })}
                />
              ))}
            </Checks>
          ) : (
            <p>{vegetated.join(", ") || "None is said to be vegetation."}</p>
          )}
        </Section>
      )}
    </Sheet>
  );
}
