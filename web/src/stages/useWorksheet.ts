import { useEffect, useState } from "react";
import type { Accepted, Finding, Quantity } from "../api/client";
import { type RunBody, useJobs, useOperations, usePreview, useStart } from "../api/queries";
import { useProject } from "../desk/context";
import { LONGEST_NAME } from "../desk/format";
import { type Sheet, useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";

const NONE: Sheet = { inputs: {}, params: {}, name: "" };

/** What every worksheet of an operation needs: its kept settings, the preview, and the run. */
export function useWorksheet(operation: string, roles: string[]) {
  const project = useProject();
  const sheet = useDesk((desk) => desk.sheets[operation]) ?? NONE;
  const change = useDesk((desk) => desk.sheet);
  const previewOn = useDesk((desk) => desk.previewOn);
  const set = useDesk((desk) => desk.set);
  const start = useStart(project.id);
  const [made, setMade] = useState<Accepted | null>(null);

  const complete = roles.every((role) => {
    const given = sheet.inputs[role];
    return Array.isArray(given) ? given.length > 0 : given !== undefined;
  });
  const params = Object.fromEntries(Object.entries(sheet.params).filter(([, value]) => value !== null));
  // what may be missing and is not chosen is not sent
  const inputs = Object.fromEntries(
    Object.entries(sheet.inputs).filter(([, given]) => !Array.isArray(given) || given.length > 0),
  );
  const output = sheet.output ?? null;
  const body: RunBody | null = complete ? { operation, params, inputs, ...(output ? { output } : {}) } : null;
  const asked = useSettled(body, 250);
  const canRun = project.role !== "viewer";
  const preview = usePreview(project.id, canRun ? asked : null);
  const result = preview.error ? undefined : preview.data;
  const { data: operations = [] } = useOperations();
  const of = sheet.name || operations.find(({ name }) => name === operation)?.title.toLowerCase() || "what is made";

  useEffect(() => {
    const shown =
      previewOn && result?.key && !preview.isPlaceholderData
        ? {
            key: result.key,
            quantity: result.quantity as Quantity,
            coarse: result.coarse,
            rough: result.rough,
            outline: result.outline as [number, number][][],
            of,
          }
        : null;
    if (shown || !previewOn || !preview.isPlaceholderData) set({ preview: shown });
  }, [previewOn, result, of, preview.isPlaceholderData, set]);
  useEffect(() => () => set({ preview: null, places: [] }), [set]);

  // what was made belongs to the settings it was made with
  const signature = JSON.stringify(body);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a change of settings is the point
  useEffect(() => setMade(null), [signature]);

  const { data: jobs = [] } = useJobs(project.id);
  const before = result?.findings ?? [];
  const told = new Set(before.map((finding) => finding.code));
  const ended = jobs.find((one) => one.id === made?.job?.id);
  const after = ((ended?.findings ?? []) as unknown as Finding[]).filter(({ code }) => !told.has(code));

  return {
    sheet,
    /** What speaks for or against a run, and what the last one showed besides. */
    findings: [...after, ...before],
    inputs: sheet.inputs,
    params: sheet.params,
    setInput: (role: string, id: number | number[]) => change(operation, { inputs: { ...sheet.inputs, [role]: id } }),
    setParams: (values: Record<string, unknown>) => change(operation, { params: { ...sheet.params, ...values } }),
    /** Which of what it gives is looked at; null for the first. */
    output,
    setOutput: (next: string | null) => change(operation, { output: next }),
    setName: (name: string) => change(operation, { name }),
    /** What this is a newer take of is forgotten. */
    forgetAgain: () => change(operation, { again: null }),
    complete,
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
            params,
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

export type WorksheetState = ReturnType<typeof useWorksheet>;
