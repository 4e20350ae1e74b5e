import { useEffect, useMemo, useState } from "react";
import { useAtMap } from "../desk/atMap";
import { many, num, size } from "../desk/format";
import { useOwnTab } from "../desk/ownTab";
import { useDesk } from "../desk/store";
import { Findings } from "../stages/Findings";
import { RoleField } from "../stages/RoleField";
import { RunFoot } from "../stages/RunFoot";
import { useRole } from "../stages/useRole";
import { type AnyWork, type Elsewhere, useWorksheet } from "../stages/useWorksheet";
import { Button } from "../ui/Button";
import { Check } from "../ui/Check";
import { NumberField } from "../ui/NumberField";
import { Section, Sheet } from "../ui/Sheet";
import { FromChosen } from "./FromChosen";
import { KeepOutRow } from "./KeepOutRow";
import { MendMap } from "./MendMap";
import styles from "./mend.module.css";
import { PatchRow } from "./PatchRow";
import { SUSPECTS_TAB } from "./SuspectsTab";
import { useMend } from "./state";
import { TakeBack } from "./TakeBack";
import { UndoRedo } from "./UndoRedo";
import { useDid } from "./useDid";
import { useMended, useMendedStack } from "./useMended";
import { useOutlines } from "./useOutlines";

const LISTED = 100; // rows of thousands that stand in the list at first

const BY_PATCH = new Set(["undone", "remark"]); // findings that stand beside their patch

/** Puts the surface into both slots: mended in A, untouched in B. */
function useInSlots(key: string | undefined) {
  const chosen = useMend((mend) => mend.set);
  useEffect(() => {
    if (!key) return;
    const { slots, set } = useDesk.getState();
    if (slots.a !== key || slots.b !== key) set({ slots: { a: key, b: key }, begun: true });
    return () => chosen({ chosen: null, keepOut: false });
  }, [key, chosen]);
}

/** Repairs of a surface as patches over it: mended in A, untouched in B. */
export function MendSheet() {
  const surface = useMended();
  const stack = useMendedStack();
  const { patches, keepOuts, other } = stack;
  const elsewhere = useMemo(
    (): Elsewhere<"mend"> => ({
      params: {
        patches: patches.map((one) => one.content),
        keep_outs: keepOuts.map((one) => one.content),
        leave_out: true,
      },
      inputs: other !== null ? { other: [other] } : {},
      ready: patches.length > 0,
      inPlace: { of: surface?.key ?? "", name: `${surface?.name}, mended` },
    }),
    [patches, keepOuts, other, surface?.key, surface?.name],
  );
  const work = useWorksheet("mend", elsewhere);
  const { usable } = useRole(work as unknown as AnyWork, "surface");
  const did = useDid(work.body);
  const wrong = useMemo(
    () => new Set(patches.filter((one, i) => one.content.on && did[i]?.problem).map((one) => one.name)),
    [patches, did],
  );
  const marked = useMemo(() => new Set([...wrong].slice(0, LISTED)), [wrong]);
  const set = useMend((mend) => mend.set);
  const chosen = useMend((mend) => mend.chosen);
  const [listed, setListed] = useState(LISTED);
  const keepOut = useMend((mend) => mend.keepOut);
  const grow = useMend((mend) => mend.grow);
  const brush = useMend((mend) => mend.brush);
  const snaps = useMend((mend) => mend.snaps);
  useInSlots(surface?.key);
  useOutlines(stack.all, wrong);
  useAtMap(MendMap);
  useOwnTab(SUSPECTS_TAB);
  const moved = did.reduce((sum, one) => sum + (one ? one.raised + one.lowered : 0), 0);
  if (!usable.length)
    return (
      <Sheet stage="Mend" title="Mend">
        <p className="remark">No surface of heights yet. Build one, or add one in Gather.</p>
      </Sheet>
    );
  const others = work.findings.filter((one) => !BY_PATCH.has(one.code));
  return (
    <Sheet
      stage="Mend"
      title="Mend"
      foot={
        <RunFoot
          work={work as unknown as AnyWork}
          name={work.sheet.name || `${surface?.name ?? "Surface"}, mended`}
          action="Store"
          beside={work.canRun ? <UndoRedo /> : null}
          makes={[
            `${many(patches.length)} ${patches.length === 1 ? "patch" : "patches"}${keepOuts.length ? `, ${many(keepOuts.length)} ${keepOuts.length === 1 ? "keep-out" : "keep-outs"}` : ""}`,
            patches.length && did.length ? (
              <>
                <span className="n">{num(moved)}</span> m³ moved
              </>
            ) : (
              patches.some((one) => one.content.on) && "Working out what they do…"
            ),
          ]}
          refused={
            stack.refused ??
            (wrong.size
              ? `${wrong.size === 1 ? "A patch changes" : `${wrong.size} patches change`} nothing. Mend or switch off what is marked before you keep the surface.`
              : null)
          }
          held={wrong.size > 0}
        />
      }
    >
      <Section title="What">
        <RoleField work={work as unknown as AnyWork} input="surface" />
        <p className="mut">
          {surface && (
            <>
              Cells of <span className="n">{size(surface.surface?.cell_size ?? 0)}</span> m. Mended in A, untouched in
              B.
            </>
          )}
        </p>
      </Section>
      <Section title="Patches" aside={patches.length ? "size, m³ moved" : "none yet"}>
        {!patches.length && work.canRun && (
          <p className="hint">
            Draw an outline on the map: press <kbd>O</kbd> and click around what is wrong, or choose another tool at the
            map's left edge.
          </p>
        )}
        <ol className={styles.patches} aria-label="Patches, first to last">
          {patches.map((one, i) =>
            i < listed || one.name === chosen || marked.has(one.name) ? (
              <PatchRow key={one.name} entry={one} number={i + 1} did={did[i]} />
            ) : null,
          )}
        </ol>
        {patches.length > listed && (
          <p className={styles.draws}>
            <Button kind="link" onClick={() => setListed(listed + LISTED)}>
              List {many(Math.min(LISTED, patches.length - listed))} more of {many(patches.length)}
            </Button>
          </p>
        )}
        {work.canRun && <FromChosen />}
        {work.canRun && <TakeBack />}
        {stack.said.map((sentence) => (
          <p key={sentence} className="find caution" role="status">
            {sentence}
          </p>
        ))}
      </Section>
      <Section title="Keep-outs" aside={keepOuts.length ? "later patches leave them" : "none"}>
        <ol className={styles.patches} aria-label="Keep-outs">
          {keepOuts.map((one) => (
            <KeepOutRow key={one.name} entry={one} />
          ))}
        </ol>
        {work.canRun && (
          <p className={styles.draws}>
            <Button kind="link" aria-pressed={keepOut} onClick={() => set({ keepOut: !keepOut })}>
              {keepOut
                ? "What is drawn next is a keep-out. Draw a patch instead"
                : "Draw the next outline as a keep-out"}
            </Button>
          </p>
        )}
      </Section>
      {work.canRun && (
        <Section title="Tools">
          <Check label="Snap to outlines and features" checked={snaps} onChange={(now) => set({ snaps: now })} />
          <div className={styles.settings}>
            <NumberField
              label="Brush"
              unit="m"
              value={brush}
              onChange={(wide) => set({ brush: wide && wide > 0 ? wide : 12 })}
            />
            <span />
            <NumberField
              label="Grow, height"
              unit="m"
              value={grow.height}
              onChange={(height) => set({ grow: { ...grow, height: height ?? 1 } })}
            />
            <NumberField
              label="Grow, slope"
              unit="°"
              value={grow.slope}
              onChange={(slope) => set({ grow: { ...grow, slope: slope ?? 10 } })}
            />
          </div>
        </Section>
      )}
      <Findings findings={others} />
    </Sheet>
  );
}
