import { useCallback, useEffect, useMemo, useState } from "react";
import type { Accepted, Finding, Inputs, Quantity } from "../api/client";
import {
  applies,
  OPERATIONS,
  type OperationName,
  type ParamsOf,
  propertyOf,
  type RoleOf,
  usual,
} from "../api/operations";
import { type RunBody, useJobs, usePreview, useStart } from "../api/queries";
import { useProject } from "../desk/context";
import { LONGEST_NAME } from "../desk/format";
import { type Sheet, useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";

const NONE: Sheet = { inputs: {}, params: {}, name: "" };

/** What is sent of the parameters: what is set, and has a meaning beside the others. */
function sent(operation: OperationName, given: Record<string, unknown>): Record<string, unknown> {
  const all = withUsual(operation, given);
  return Object.fromEntries(
    Object.entries(given).filter(([name, value]) => value !== null && applies(propertyOf(operation, name), all)),
  );
}

function withUsual(operation: OperationName, given: Record<string, unknown>): Record<string, unknown> {
  const set = Object.entries(given).filter(([, value]) => value !== null && value !== undefined);
  return { ...usual(operation), ...Object.fromEntries(set) };
}

/** What a worksheet keeps elsewhere than in the desk. */
export interface Elsewhere<N extends OperationName> {
  params: Partial<ParamsOf<N>>;
  inputs: Inputs;
  /** Whether there is enough of it to look at. */
  ready: boolean;
  /** The surface in whose place the result stands in A, as a surface of its own, and what it is called there. */
  inPlace?: { of: string; name: string };
}

/** What every worksheet of an operation needs: its kept settings, the preview, and the run. */
export function useWorksheet<N extends OperationName>(operation: N, elsewhere?: Elsewhere<N>) {
  const project = useProject();
  const kept = useDesk((desk) => desk.sheets[operation]) ?? NONE;
  const sheet = useMemo(
    () =>
      elsewhere
        ? {
            ...kept,
            params: { ...kept.params, ...(elsewhere.params as Record<string, unknown>) },
            inputs: { ...kept.inputs, ...elsewhere.inputs },
          }
        : kept,
    [kept, elsewhere],
  );
  const change = useDesk((desk) => desk.sheet);
  const previewOn = useDesk((desk) => desk.previewOn);
  const set = useDesk((desk) => desk.set);
  const start = useStart(project.id);
  const [made, setMade] = useState<Accepted | null>(null);

  const ids = (role: RoleOf<N>): number[] => {
    const given = sheet.inputs[role];
    return given === undefined ? [] : Array.isArray(given) ? given : [given];
  };
  const complete =
    (elsewhere?.ready ?? true) &&
    Object.entries(OPERATIONS[operation].inputs).every(
      ([role, { optional }]) => optional || ids(role as RoleOf<N>).length > 0,
    );
  const params = useMemo(() => withUsual(operation, sheet.params) as ParamsOf<N>, [operation, sheet.params]);
  // what may be missing and is not chosen is not sent
  const inputs: Inputs = Object.fromEntries(
    Object.entries(sheet.inputs).filter(([, given]) => !Array.isArray(given) || given.length > 0),
  );
  const output = sheet.output ?? null;
  const body: (RunBody & { inputs: Inputs }) | null = complete
    ? { operation, params: sent(operation, sheet.params), inputs, ...(output ? { output } : {}) }
    : null;
  const asked = useSettled(body, 250);
  const canRun = project.role !== "viewer";
  const preview = usePreview(project.id, canRun || elsewhere ? asked : null);
  const result = preview.error ? undefined : preview.data;
  const of = sheet.name || OPERATIONS[operation].title.toLowerCase();

  const { of: inPlaceOf, name: inPlaceName } = elsewhere?.inPlace ?? {};
  const ready = body !== null;
  useEffect(() => {
    if (inPlaceOf === undefined) return;
    if (!ready) set({ inPlace: null });
    else if (result?.key && !preview.isPlaceholderData)
      set({ inPlace: { of: inPlaceOf, key: result.key, name: inPlaceName ?? "" } });
  }, [inPlaceOf, inPlaceName, ready, result?.key, preview.isPlaceholderData, set]);
  useEffect(() => () => set({ inPlace: null }), [set]);

  useEffect(() => {
    if (inPlaceOf !== undefined) return;
    const shown =
      previewOn && result?.key && !preview.isPlaceholderData
        ? {
            key: result.key,
            quantity: result.quantity as Quantity,
            coarse: result.coarse,
            rough: result.rough,
            outline: result.outline as [number, number][][],
            of,
            inputs: asked?.inputs,
          }
        : null;
    if (shown || !previewOn || !preview.isPlaceholderData) set({ preview: shown });
  }, [previewOn, result, of, asked, preview.isPlaceholderData, set, inPlaceOf]);
  useEffect(() => () => set({ preview: null }), [set]);

  // what was made belongs to the settings it was made with
  const signature = JSON.stringify(body);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a change of settings is the point
  useEffect(() => setMade(null), [signature]);

  const { data: jobs = [] } = useJobs(project.id);
  const before = result?.findings ?? [];
  const told = new Set(before.map((finding) => finding.code));
  const ended = jobs.find((one) => one.id === made?.job?.id);
  const after = ((ended?.findings ?? []) as unknown as Finding[]).filter(({ code }) => !told.has(code));

  const setParams = useCallback(
    (values: { [K in keyof ParamsOf<N>]?: ParamsOf<N>[K] | null }) => {
      const before = useDesk.getState().sheets[operation]?.params;
      change(operation, { params: { ...before, ...values } });
    },
    [operation, change],
  );
  const setInput = useCallback(
    (role: RoleOf<N>, given: number | number[]) => {
      const before = useDesk.getState().sheets[operation]?.inputs;
      change(operation, { inputs: { ...before, [role]: given } });
    },
    [operation, change],
  );

  return {
    operation,
    sheet,
    /** What speaks for or against a run, and what the last one showed besides. */
    findings: [...after, ...before],
    /** What is chosen for a role. */
    ids,
    /** All parameters, as they are set or as they usually are; and those that are set. */
    params,
    given: sheet.params,
    /** Set some of them; null leaves one as it usually is. */
    setParams,
    setInput,
    /** Which of what it gives is looked at; null for the first. */
    output,
    setOutput: (next: string | null) => change(operation, { output: next }),
    setName: (name: string) => change(operation, { name }),
    /** What this is a newer take of is forgotten. */
    forgetAgain: () => change(operation, { again: null }),
    complete,
    /** What is asked for now, and what the preview was asked for. */
    request: body,
    body: asked,
    canRun,
    preview: result,
    refused: preview.error?.message ?? null,
    waiting: preview.isFetching || JSON.stringify(asked) !== signature,
    run: async (name: string, live = false) => {
      if (!body) return;
      setMade(
        await start.mutateAsync({
          path: "/runs",
          body: {
            operation,
            params: body.params,
            inputs,
            outputs: output ? [output] : [],
            name: name.slice(0, LONGEST_NAME), // a proposed one may be made of several long ones
            live,
            instead_of: sheet.again ?? null,
          },
        }),
      );
    },
    starting: start.isPending,
    failed: start.error?.message ?? null,
    made,
  };
}

export type Work<N extends OperationName> = ReturnType<typeof useWorksheet<N>>;

/** A worksheet whatever its operation: names of parameters and roles are any text. */
export type AnyWork = Omit<Work<OperationName>, "ids" | "params" | "setParams" | "setInput"> & {
  ids(role: string): number[];
  params: Record<string, unknown>;
  setParams(values: Record<string, unknown>): void;
  setInput(role: string, given: number | number[]): void;
};
