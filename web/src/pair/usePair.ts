import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import {
  call,
  type Finding,
  type ImageHolding,
  type Inputs,
  type PairLook,
  type PairTry,
  type Table,
} from "../api/client";
import { KEYS } from "../api/keys";
import { usePreview } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { usePairState, WINDOW } from "./state";

const NOTHING: Inputs = {};
const UNSET: Record<string, unknown> = {};
const NOBODY: number[] = [];
const NOWHERE: [number, number][] = [];

const first = (given: number | number[] | undefined) => (Array.isArray(given) ? given[0] : given);

/** The two images that are chosen on the worksheet, with model and geoid; null until there are two. */
export function usePairAsked() {
  const { all } = useHeld();
  const inputs = useDesk((desk) => desk.sheets.image_pair?.inputs ?? NOTHING);
  const image = (id: number | undefined) =>
    all.find((one): one is ImageHolding => one.kind === "image" && one.id === id);
  const [left, right] = [image(first(inputs.left)), image(first(inputs.right))];
  if (!left || !right || left.id === right.id) return null;
  return { left, right, model: first(inputs.model) ?? null, geoid: first(inputs.geoid) ?? null };
}

/** How both images see the ground. */
export function useLook() {
  const project = useProject();
  const asked = usePairAsked();
  const body = asked && { left: asked.left.id, right: asked.right.id, model: asked.model, geoid: asked.geoid };
  return useQuery({
    queryKey: KEYS.pair(project.id, body),
    queryFn: ({ signal }) => call<PairLook>("POST", `/projects/${project.id}/pairs/look`, body, signal),
    enabled: body !== null,
    retry: false,
    staleTime: Infinity,
  });
}

/** What the window gives with the settings of the worksheet, or with another preset. */
export function useTry(preset?: string) {
  const project = useProject();
  const asked = usePairAsked();
  const { a } = useHeld();
  const place = usePairState((pair) => pair.window);
  const params = useDesk((desk) => desk.sheets.image_pair?.params ?? UNSET);
  const { low, high, smoothness, likeness } = params;
  const body = asked &&
    place && {
      left: asked.left.id,
      right: asked.right.id,
      model: asked.model,
      geoid: asked.geoid,
      col: place[0],
      row: place[1],
      size: preset ? WINDOW / 2 : WINDOW,
      preset: preset ?? params.preset ?? "hilly",
      ...Object.fromEntries(Object.entries({ low, high, smoothness, likeness }).filter(([, value]) => value != null)),
      minus: a?.surface?.quantity === "height" ? a.key : null,
    };
  return useQuery({
    queryKey: KEYS.pairTry(project.id, body),
    queryFn: ({ signal }) => call<PairTry>("POST", `/projects/${project.id}/pairs/try`, body, signal),
    enabled: body !== null,
    retry: false,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

/** Height and likeness under the pointer, where it is in the window that was matched; no height where nothing was there. */
export function useTriedAt(): { height: number | null; likeness: number } | null {
  const { data } = useTry();
  const { hover, window } = usePairState();
  const cells = useMemo(() => data && { heights: floats(data.heights), likeness: floats(data.likeness) }, [data]);
  if (!hover || !window || !cells || data?.size !== WINDOW) return null;
  const [col, row] = [0, 1].map((i) => Math.round((hover[i] ?? 0) - (window[i] ?? 0) + WINDOW / 2)) as [number, number];
  if (Math.min(col, row) < 0 || Math.max(col, row) >= WINDOW) return null;
  const at = row * WINDOW + col;
  const [height = Number.NaN, likeness = Number.NaN] = [cells.heights[at], cells.likeness[at]];
  return { height: Number.isNaN(height) ? null : height, likeness };
}

export interface Tie {
  number: number;
  left: [number, number];
  right: [number, number];
  likeness: number;
  precision: number;
  residual: number | null;
  used: boolean;
}

/** The tie points that are chosen on the worksheet, worst first. */
export function useTies() {
  const project = useProject();
  const id = useDesk((desk) => first(desk.sheets.adjust_models?.inputs.ties));
  const { data } = useQuery({
    queryKey: KEYS.table(project.id, id),
    queryFn: () => call<Table>("GET", `/projects/${project.id}/holdings/${id}/table`),
    enabled: id !== undefined,
  });
  const names = data?.columns.map((column) => column.name) ?? [];
  if (!data || !names.includes("left_col")) return { ties: [] as Tie[], facts: {} as Record<string, number> };
  const at = (row: unknown[], name: string) => row[names.indexOf(name)];
  const ties = (data.rows as unknown[][]).map((row) => ({
    number: Number(at(row, "number")),
    left: [Number(at(row, "left_col")), Number(at(row, "left_row"))] as [number, number],
    right: [Number(at(row, "right_col")), Number(at(row, "right_row"))] as [number, number],
    likeness: Number(at(row, "likeness")),
    precision: Number(at(row, "precision")),
    residual: at(row, "residual") === null ? null : Number(at(row, "residual")),
    used: at(row, "used") === true,
  }));
  ties.sort((one, other) => (other.residual ?? 0) - (one.residual ?? 0));
  return { ties, facts: data.facts as Record<string, number> };
}

export interface AdjustedModels {
  /** Columns and rows by which each image was moved. */
  left: [number, number];
  right: [number, number];
  /** How far known heights moved both, in metres, and how many there were. */
  control: { count: number; up: number; spread: number } | null;
}

/** What the adjusted models that are chosen on the worksheet say. */
export function useModel(): AdjustedModels | null {
  const project = useProject();
  const id = usePairAsked()?.model ?? undefined;
  const { data } = useQuery({
    queryKey: KEYS.table(project.id, id),
    queryFn: () => call<Table>("GET", `/projects/${project.id}/holdings/${id}/table`),
    enabled: id !== undefined,
  });
  const names = data?.columns.map((column) => column.name) ?? [];
  const [c0, r0] = [names.indexOf("c0"), names.indexOf("r0")];
  if (!data || c0 < 0 || r0 < 0) return null;
  const [left = [0, 0], right = [0, 0]] = (data.rows as unknown[][]).map((row): [number, number] => [
    Number(row[c0] ?? 0),
    Number(row[r0] ?? 0),
  ]);
  return { left, right, control: (data.facts as Pick<AdjustedModels, "control">).control ?? null };
}

/** How the models are to be adjusted: what is left out and added, and over which residual. */
export function useAdjusting() {
  const params = useDesk((desk) => desk.sheets.adjust_models?.params ?? UNSET);
  const leftOut = (params.left_out ?? NOBODY) as number[];
  const added = (params.added ?? NOWHERE) as [number, number][];
  const settings = Object.fromEntries(
    Object.entries({ left_out: leftOut, added, most: params.most, correction: params.correction }).filter(
      ([, value]) => value != null,
    ),
  );
  return { leftOut, added, settings };
}

/** Corners of the left image that have no tie point near them. */
export function useBare(): Finding[] {
  const project = useProject();
  const asked = usePairAsked();
  const { settings } = useAdjusting();
  const ties = useDesk((desk) => first(desk.sheets.adjust_models?.inputs.ties));
  const { data } = usePreview(
    project.id,
    asked && ties !== undefined
      ? { operation: "adjust_models", params: settings, inputs: { left: asked.left.id, right: asked.right.id, ties } }
      : null,
  );
  return (data?.findings ?? []).filter((one) => one.code === "bare");
}

/** Numbers of a base64 text of little-endian float32. */
export function floats(text: string): Float32Array {
  return new Float32Array(Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0)).buffer);
}
