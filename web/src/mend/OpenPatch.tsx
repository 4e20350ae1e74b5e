import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { call, type Profile } from "../api/client";
import { KEYS } from "../api/keys";
import { boundsOf, type Property } from "../api/operations";
import { useHeld, useProject } from "../desk/context";
import { num, shortUnit } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import type { Line } from "../map/shapes";
import { HoldingChoice } from "../stages/HoldingChoice";
import { Button } from "../ui/Button";
import { Check } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { NumberField } from "../ui/NumberField";
import { Card } from "../ui/Radio";
import { TextField } from "../ui/TextField";
import { Cross } from "./Cross";
import { boxAround, lengthOf, profileLine } from "./geometry";
import styles from "./mend.module.css";
import { OperatorIcon } from "./OperatorIcon";
import {
  KINDS,
  OPERATORS,
  type Operator,
  type PatchContent,
  patchProperty,
  settingsOf,
  usualOperator,
} from "./operators";
import { useMend } from "./state";
import { useMended, useMendedStack, useMetres, useShape } from "./useMended";
import { type AnyEntry, placesOf } from "./useStack";

const PAUSE = 300; // milliseconds after the last key until what is typed is one change

/** An entry's content as it is typed, sent as one change when nobody types any more. */
export function useTyped<C extends AnyEntry["content"]>(entry: { name: string; kind: AnyEntry["kind"]; content: C }) {
  const { change } = useMendedStack();
  const [typed, setTyped] = useState<C | null>(null);
  const waiting = useRef<{ timer: number; send: () => void } | null>(null);
  const { name, kind, content } = entry;
  const set = useCallback(
    (more: Partial<C>, atOnce = false) => {
      if (waiting.current) window.clearTimeout(waiting.current.timer);
      setTyped((before) => {
        const next = { ...(before ?? content), ...more };
        const send = () => {
          waiting.current = null;
          change([{ name, kind, content: next as never }]);
          setTyped(null);
        };
        waiting.current = { timer: window.setTimeout(send, atOnce ? 0 : PAUSE), send };
        return next;
      });
    },
    [change, name, kind, content],
  );
  // what was typed last is not lost when the patch is closed
  useEffect(
    () => () => {
      if (!waiting.current) return;
      window.clearTimeout(waiting.current.timer);
      waiting.current.send();
    },
    [],
  );
  return { content: typed ?? content, set };
}

/** One setting of an operator, drawn from its description. */
function Setting({
  property,
  value,
  onChange,
}: {
  property: Property;
  value: unknown;
  onChange: (value: never) => void;
}) {
  const told = { label: property.title, title: property.description };
  if (property.type === "boolean")
    return <Check {...told} checked={value === true} onChange={(on) => onChange(on as never)} />;
  if (property.enum)
    return (
      <Choice
        {...told}
        value={String(value)}
        options={property.enum.map((one) => ({
          value: String(one),
          title: property.titles?.[String(one)] ?? String(one),
        }))}
        onChange={(next) => onChange(next as never)}
      />
    );
  return (
    <NumberField
      {...told}
      unit={property.unit}
      value={value as number}
      placeholder={String(property.default ?? "")}
      bounds={boundsOf(property)}
      onChange={(next) => {
        const number = next ?? (property.default as number | undefined);
        if (number !== undefined && (boundsOf(property)?.holds(number) ?? true)) onChange(number as never);
      }}
    />
  );
}

/** Heights across the patch before and after, along a line that the map shows. */
function Inside({ content }: { content: PatchContent }) {
  const project = useProject();
  const surface = useMended();
  const { a } = useHeld();
  const metres = useMetres();
  const [along, setAlong] = useState(content.operator.kind === "along" || content.operator.kind === "falling");
  const drawn = JSON.stringify(placesOf(content));
  const line = useMemo(() => {
    const places = JSON.parse(drawn) as Line;
    return places.length > 1 ? profileLine(places, Boolean(content.ring), along, 40 / metres) : null;
  }, [drawn, content.ring, along, metres]);
  const keys = [...new Set([a?.key, surface?.key])].filter((key): key is string => key !== undefined);
  const { data } = useQuery({
    queryKey: KEYS.profile(project.id, keys, line),
    queryFn: ({ signal }) => call<Profile>("POST", `/projects/${project.id}/profiles`, { keys, line }, signal),
    enabled: line !== null && keys.length > 0,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
  useOverlay(
    "profile",
    useMemo(() => line && { line, at: null }, [line]),
  );
  const before = data?.courses[surface?.key ?? ""]?.heights;
  const after = data?.courses[a?.key ?? ""]?.heights ?? before;
  if (!before || !after) return null;
  return (
    <div className={styles.inside}>
      <Cross
        before={before}
        after={after}
        size={[266, 56]}
        label="Before and after"
        ends={["P", "Q"]}
        unit={shortUnit(project.frame.unit)}
      />
      <div className={styles.ways} role="radiogroup" aria-label="Profile">
        {[true, false].map((way) => (
          <Card
            key={String(way)}
            className={styles.way as string}
            group="mend-profile"
            checked={along === way}
            onChoose={() => setAlong(way)}
          >
            {way ? "along" : "across"}
          </Card>
        ))}
      </div>
    </div>
  );
}

/** How large an outline is, in the words of a ruler. */
export function Extent({ content }: { content: Pick<PatchContent, "ring" | "line" | "width"> }) {
  const metres = useMetres();
  const places = placesOf(content);
  if (content.line)
    return (
      <>
        <span className="n">{num(lengthOf(places) * metres, 1)}</span> m long
      </>
    );
  const { length, width } = boxAround(places);
  return (
    <>
      <span className="n">
        {num(length * metres, 1)} × {num(width * metres, 1)}
      </span>{" "}
      m
    </>
  );
}

/** Moves the rim of an outline out or in. */
export function RimRow({ entry }: { entry: AnyEntry }) {
  const { change } = useMendedStack();
  const shape = useShape();
  const [by, setBy] = useState<number | null>(2);
  const { ring } = entry.content;
  if (!ring) return null;
  const move = (sign: number) =>
    shape.mutate(
      { how: "offset", rings: [ring as Line], metres: sign * (by ?? 0) },
      {
        onSuccess: ([made]) =>
          made && change([{ name: entry.name, kind: entry.kind, content: { ...entry.content, ring: made } as never }]),
      },
    );
  return (
    <>
      <div className="row two joined">
        <NumberField label="Move the rim" unit="m" value={by} onChange={setBy} />
        <span className={styles.outin}>
          <Button kind="small" disabled={!by} onClick={() => move(1)}>
            Out
          </Button>
          <Button kind="small" disabled={!by} onClick={() => move(-1)}>
            In
          </Button>
        </span>
      </div>
      {shape.error && (
        <p className="fail" role="alert">
          {shape.error.message}
        </p>
      )}
    </>
  );
}

/** A patch that is open: its operator, what can be set, and what it does to the heights inside. */
export function OpenPatch({ entry }: { entry: Extract<AnyEntry, { kind: "patch" }> }) {
  const { surfaces } = useHeld();
  const surface = useMended();
  const stack = useMendedStack();
  const { content, set } = useTyped(entry);
  const { operator } = content;
  const { all, change } = stack;
  const patches = all.filter((one) => one.kind === "patch");
  const at = patches.findIndex((one) => one.name === entry.name);
  const mean = useDesk((desk) => desk.looks.height.range);
  const choose = (kind: Operator["kind"]) => {
    const named = content.name === OPERATORS[operator.kind].title ? { name: OPERATORS[kind].title } : {};
    useMend.getState().set({ operator: kind });
    set({ ...named, operator: usualOperator(kind, Math.round(((mean[0] + mean[1]) / 2) * 10) / 10) }, true);
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
