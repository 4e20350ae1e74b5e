import { useCallback, useEffect, useMemo, useState } from "react";
import { type RunBody, usePreview } from "../api/queries";
import { useAtMap } from "../desk/atMap";
import { useHeld, useProject } from "../desk/context";
import { many, num, size } from "../desk/format";
import { type Outlined, useOverlay } from "../desk/overlays";
import { useOwnTab } from "../desk/ownTab";
import { toolOf, useDesk } from "../desk/store";
import { useFeatures } from "../desk/useDraft";
import { useUndoKey } from "../desk/useUndoKey";
import { lineOf } from "../map/shapes";
import { Findings } from "../stages/Findings";
import { RoleField } from "../stages/RoleField";
import { RunFoot } from "../stages/RunFoot";
import { useRole } from "../stages/useRole";
import { type AnyWork, type Elsewhere, useWorksheet } from "../stages/useWorksheet";
import { Button } from "../ui/Button";
import { NumberField } from "../ui/NumberField";
import { Section, Sheet } from "../ui/Sheet";
import { TextField } from "../ui/TextField";
import { Toggle } from "../ui/Toggle";
import { areaOf, lengthOf } from "./geometry";
import { Lock, ToolIcon } from "./icons";
import { MendMap } from "./MendMap";
import styles from "./mend.module.css";
import { Extent, OpenPatch, RimRow, useTyped } from "./OpenPatch";
import { OperatorIcon } from "./OperatorIcon";
import { newPatch, OPERATORS, usualOperator } from "./operators";
import { SUSPECTS_TAB } from "./SuspectsTab";
import { useMend } from "./state";
import { useMended, useMendedStack, useMetres } from "./useMended";
import { type AnyEntry, freshName, type KeepOutEntry, type PatchEntry, placesOf } from "./useStack";

/** What a patch did, as the table of them says. */
interface Did {
  cells: number;
  raised: number;
  lowered: number;
  largest: number;
  problem: string | null;
}

const NOTHING_DONE: Did[] = [];
const MOST_TAKEN = 50;
const LISTED = 100; // rows of thousands that stand in the list at first

/** What patches did, in their order. */
function useDid(body: RunBody | null): Did[] {
  const project = useProject();
  const { data } = usePreview(
    project.id,
    useMemo(() => body && { ...body, output: "patches" }, [body]),
  );
  return useMemo(() => {
    const table = data?.table;
    if (!table) return NOTHING_DONE;
    const found: Did[] = [];
    for (const row of table.rows) {
      const of = Object.fromEntries(table.columns.map(({ name }, i) => [name, row[i]]));
      found[Number(of.number) - 1] = {
        cells: Number(of.cells),
        raised: Number(of.raised),
        lowered: Number(of.lowered),
        largest: Number(of.largest),
        problem: (of.problem as string | null) ?? null,
      };
    }
    return found;
  }, [data]);
}

/** The size of an entry, short enough for its row. */
function Size({ entry }: { entry: AnyEntry }) {
  const metres = useMetres();
  const places = placesOf(entry.content);
  if (entry.content.line) {
    const length = lengthOf(places) * metres;
    return <>{length >= 1000 ? `${num(length / 1000, 2)} km` : `${num(length)} m`}</>;
  }
  return <>{num((areaOf(places) * metres * metres) / 10_000, 2)} ha</>;
}

function PatchRow({ entry, number, did }: { entry: PatchEntry; number: number; did: Did | undefined }) {
  const { change, patches } = useMendedStack();
  const open = useMend((mend) => mend.chosen === entry.name);
  const set = useMend((mend) => mend.set);
  const [over, setOver] = useState(false);
  const { content } = entry;
  const title = content.name || OPERATORS[content.operator.kind].title;
  return (
    <li
      className={styles.patch}
      data-open={open}
      data-over={over}
      draggable={!open}
      onDragStart={(event) => event.dataTransfer.setData("text/yama-patch", entry.name)}
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("text/yama-patch")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        const name = event.dataTransfer.getData("text/yama-patch");
        if (name && name !== entry.name && patches.some((one) => one.name === name))
          change([{ name, kind: "patch", before: entry.name }]);
      }}
    >
      <div className={styles.patchrow}>
        <Toggle
          label={<span className="unseen">{title} counts</span>}
          checked={content.on}
          onChange={(on) => change([{ name: entry.name, kind: "patch", content: { ...content, on } }])}
        />
        <button
          type="button"
          className={styles.patchname}
          aria-expanded={open}
          onClick={() => set({ chosen: open ? null : entry.name })}
        >
          <OperatorIcon kind={content.operator.kind} small />
          <span>
            <span className="n">{number}</span> {title}
          </span>
        </button>
        <span className="n">
          <Size entry={entry} />
        </span>
        <span className="n" title="Cubic metres moved">
          {!content.on ? "off" : did?.problem ? "" : did ? num(did.raised + did.lowered) : ""}
        </span>
      </div>
      {content.on && did?.problem && (
        <p className={styles.problem} role="alert">
          Changes nothing. {did.problem.replace(`${content.name}: `, "")}
        </p>
      )}
      {open && <OpenPatch entry={entry} />}
    </li>
  );
}

function KeepOutRow({ entry }: { entry: KeepOutEntry }) {
  const { change } = useMendedStack();
  const open = useMend((mend) => mend.chosen === entry.name);
  const set = useMend((mend) => mend.set);
  const { content, set: type } = useTyped(entry);
  return (
    <li className={styles.patch} data-open={open}>
      <div className={styles.keeprow}>
        <Lock />
        <button
          type="button"
          className={styles.patchname}
          aria-expanded={open}
          onClick={() => set({ chosen: open ? null : entry.name })}
        >
          <span>{entry.content.name || "Keep-out"}</span>
          {entry.content.real && <span className="mut">real</span>}
        </button>
        <span className="n">
          <Size entry={entry} />
        </span>
      </div>
      {open && (
        <div className={styles.open}>
          <p className={styles.extent}>
            <Extent content={content} />
          </p>
          <TextField
            label="Name"
            value={content.name}
            placeholder="Keep-out"
            maxLength={120}
            onChange={(name) => type({ name })}
          />
          <RimRow entry={entry} />
          <div className="acts edits">
            <Button
              kind="small"
              onClick={() => {
                change([{ name: entry.name, kind: "keep_out", gone: true }]);
                set({ chosen: null });
              }}
            >
              Remove
            </Button>
          </div>
        </div>
      )}
    </li>
  );
}

/** Undoing and doing again, named by what they take back. */
function UndoRedo() {
  const { undo, redo, change } = useMendedStack();
  useUndoKey(useCallback((again: boolean) => change(again ? "redo" : "undo"), [change]));
  return (
    <span className={styles.undo}>
      <Button
        kind="bare"
        aria-label="Undo"
        title={undo && `Undo: ${undo}`}
        disabled={!undo}
        onClick={() => change("undo")}
      >
        <ToolIcon name="undo" />
      </Button>
      <Button
        kind="bare"
        aria-label="Redo"
        title={redo && `Do again: ${redo}`}
        disabled={!redo}
        onClick={() => change("redo")}
      >
        <ToolIcon name="redo" />
      </Button>
    </span>
  );
}

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

/** All outlines on the map, but that whose vertices are dragged. */
function useOutlines(all: AnyEntry[], wrong: Set<string>) {
  const metres = useMetres();
  const chosen = useMend((mend) => mend.chosen);
  const reshaped = useDesk((desk) => toolOf(desk).kind === "vertices");
  const outlines = useMemo(() => {
    let number = 0;
    const drawn = all.flatMap((one): Outlined[] => {
      if (one.kind === "patch") number += 1;
      if (one.name === chosen && reshaped && one.content.ring) return [];
      const off = one.kind === "patch" && !one.content.on;
      return [
        {
          name: one.name,
          title: one.kind === "patch" ? `${number} ${one.content.name}` : one.content.name,
          places: placesOf(one.content),
          width: one.content.line ? one.content.width : null,
          look:
            one.name === chosen
              ? "chosen"
              : one.kind === "keep_out"
                ? "kept out"
                : off
                  ? "off"
                  : wrong.has(one.name)
                    ? "wrong"
                    : "patch",
          press: () => useMend.getState().set({ chosen: one.name }),
        },
      ];
    });
    return drawn.length ? { outlines: drawn, perMetre: 1 / metres } : null;
  }, [all, chosen, reshaped, wrong, metres]);
  useOverlay("patches", outlines);
}

/** Takes features that were chosen in the strip as outlines: polygons as areas, lines as rivers or edges. */
function FromChosen() {
  const { features } = useHeld();
  const { change } = useMendedStack();
  const chosen = useDesk((desk) => desk.chosen);
  const { data } = useFeatures(features.find((one) => one.id === chosen.holding));
  const shapes = (data?.features ?? []).filter((one) => chosen.numbers.includes(one.id)).slice(0, MOST_TAKEN);
  if (!shapes.length) return null;
  const take = () => {
    const says = shapes.flatMap(({ geometry }) => {
      const places = lineOf(geometry);
      if (!places) return [];
      const area = geometry.type.includes("Polygon");
      const drawn = area ? { ring: places.slice(0, -1) } : { line: places };
      const kind = area ? "level" : "falling";
      return [{ name: freshName(), kind: "patch" as const, content: newPatch(drawn, usualOperator(kind)) }];
    });
    change(says);
    useMend.getState().set({ chosen: says[0]?.name ?? null });
  };
  return (
    <p className={styles.draws}>
      <Button kind="link" onClick={take}>
        Take {shapes.length === 1 ? "the chosen feature" : `the ${shapes.length} chosen features`} as{" "}
        {shapes.length === 1 ? "an outline" : "outlines"}
      </Button>
    </p>
  );
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
  const set = useMend((mend) => mend.set);
  const chosen = useMend((mend) => mend.chosen);
  const [listed, setListed] = useState(LISTED);
  const keepOut = useMend((mend) => mend.keepOut);
  const grow = useMend((mend) => mend.grow);
  const brush = useMend((mend) => mend.brush);
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
  const others = work.findings.filter((one) => one.code !== "undone");
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
            patches.length ? (
              <>
                <span className="n">{num(moved)}</span> m³ moved
              </>
            ) : (
              ""
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
        {!patches.length && (
          <p className="hint">
            Draw an outline on the map: press <kbd>O</kbd> and click around what is wrong, or choose another tool at the
            map's left edge.
          </p>
        )}
        <ol className={styles.patches} aria-label="Patches, first to last">
          {patches.map((one, i) =>
            i < listed || one.name === chosen || wrong.has(one.name) ? (
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
        <FromChosen />
        {stack.said.map((sentence) => (
          <p key={sentence} className="find caution" role="status">
            {sentence}
          </p>
        ))}
      </Section>
      <Section title="Keep-outs" aside={keepOuts.length ? "nothing moves inside" : "none"}>
        <ol className={styles.patches} aria-label="Keep-outs">
          {keepOuts.map((one) => (
            <KeepOutRow key={one.name} entry={one} />
          ))}
        </ol>
        <p className={styles.draws}>
          <Button kind="link" aria-pressed={keepOut} onClick={() => set({ keepOut: !keepOut })}>
            {keepOut ? "What is drawn next is a keep-out. Draw a patch instead" : "Draw the next outline as a keep-out"}
          </Button>
        </p>
      </Section>
      <Section title="Tools">
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
      <Findings findings={others} />
    </Sheet>
  );
}
