import { useEffect, useMemo } from "react";
import type { Holding, Network, WayDown } from "../../api/client";
import { useAtMap } from "../../desk/atMap";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useOwnTab } from "../../desk/ownTab";
import { useDesk } from "../../desk/store";
import { Alike } from "../../drain/Alike";
import { CatchmentsTable } from "../../drain/CatchmentsTable";
import { DrainLegend } from "../../drain/DrainLegend";
import styles from "../../drain/drain.module.css";
import { findingsOf } from "../../drain/findings";
import { HOLLOWS, HOLLOWS_TAB } from "../../drain/HollowsTab";
import { NETWORKS } from "../../drain/NetworksTab";
import { LETTER, type Looked, type Slot, useDrainState } from "../../drain/state";
import { ThresholdCurve } from "../../drain/ThresholdCurve";
import { drainedOf, useDrained } from "../../drain/useDrained";
import { useDrawn } from "../../drain/useDrawn";
import { useHollows, useSaid } from "../../drain/useHollows";
import { useReference } from "../../drain/useReference";
import { counted, cubic, hectares, hollowsOf, kilometres } from "../../drain/words";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { Refusal } from "../../ui/Refusal";
import { Slide } from "../../ui/Slide";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const MOST_OUTLETS = 50;
const USUAL_NAME = /^Outlet \d+$/;
const NONE = "none";

/** Where water from a place goes, as a sentence. */
function wayOf(way: WayDown | undefined): string {
  if (!way?.known) return "…";
  const ends = way.leaves ? "off the surface" : "into a hollow that keeps it";
  return `${hectares(way.drained ?? 0)} ha drain through it; from there water runs ${kilometres(way.length ?? 0)} km, ${ends}.`;
}

/** The figures of both slots in a row. */
function Pair({ of }: { of: { slot: Slot; shown: string }[] }) {
  return (
    <p className={styles.keys}>
      {of.map(({ slot, shown }) => (
        <span key={slot}>
          <i data-slot={slot} />
          <b className="n">{shown}</b>
        </span>
      ))}
    </p>
  );
}

/** The list of hollows is brought to front by who asks for it. */
const never = () => false;
/** Surfaces are chosen in the strip: it stays where it is until there is one in each slot. */
const nothingElse = () => {
  const { a, b } = useDesk.getState().slots;
  return a !== null && b !== null;
};

/** Streams of a surface and the ground above places on them, beside those of the surface in B. */
export function StreamsSheet() {
  const project = useProject();
  const { said, refused } = useSaid();
  const { outlets, snap, within, from, beside: besideIt, seaBeside, apart, above, set } = useDrainState();
  // hollows that somebody said hold water keep it
  const elsewhere = useMemo(
    () => ({
      params: {
        waters_at: (said ?? []).flatMap(({ x, y, kind }): [number, number][] => (kind === "water" ? [[x, y]] : [])),
        above: above ? outlets.map(({ x, y }): [number, number] => [x, y]) : [],
        snap,
      },
      inputs: {},
      ready: said !== undefined,
    }),
    [said, above, outlets, snap],
  );
  const work = useWorksheet("streams", elsewhere);
  const { a, b } = useHeld();
  const { chosen } = useRole(work, "surface");
  const { params } = work;
  const tab = useDesk((desk) => desk.tab);
  const burned = work.ids("burned")[0] ?? null;
  const settings = {
    kept: work.ids("kept")[0] ?? null,
    method: params.method,
    most_depth: params.most_depth ?? null,
    most_area: params.most_area ?? null,
    most_length: params.most_length ?? null,
    sea: params.sea ?? null,
    burned,
    bed_width: params.bed_width,
    bed_depth: params.bed_depth,
    bed_bank: params.bed_bank,
    waters_at: elsewhere.params.waters_at,
    begins_at: params.begins_at,
    minimum_length: params.minimum_length,
    heads: params.heads,
    over_level: params.over_level,
  };
  const asked = (one: Holding | undefined): Network | null => (one && said ? { surface: one.id, ...settings } : null);
  const slot: Slot = chosen?.key === a?.key ? "a" : chosen?.key === b?.key ? "b" : "none";
  // what is looked at beside it: a kept network, or the other slot, where that holds heights
  const otherSlot = slot === "b" ? "a" : "b";
  const candidate = slot === "b" ? a : b;
  const heights = candidate && quantityOf(candidate) === "height" && !candidate.lookedAt ? candidate : undefined;
  const keptBeside = besideIt && heights?.id === besideIt.surface ? besideIt : null;
  const other = keptBeside || heights?.id !== chosen?.id ? heights : undefined;
  const { known, rivers } = useReference();
  const mine = asked(chosen);
  const conditioned = asked(other);
  const theirs =
    keptBeside ?? (conditioned && seaBeside !== undefined ? { ...conditioned, sea: seaBeside } : conditioned);
  const own = useDrained(mine, known, theirs, true);
  const beside = useDrained(theirs, known, mine, false);
  const signature = JSON.stringify([
    ...(mine ? [{ slot, content: mine }] : []),
    ...(theirs ? [{ slot: otherSlot, content: theirs }] : []),
  ]);
  useEffect(() => set({ looked: JSON.parse(signature) as Looked[] }), [signature, set]);
  useDrawn([{ slot, found: own }, ...(other ? [{ slot: otherSlot as Slot, found: beside }] : [])], known);
  useAtMap(DrainLegend);
  useEffect(() => () => set({ looked: [], beside: null }), [set]);
  useOwnTab(HOLLOWS, never);
  useOwnTab(NETWORKS, nothingElse);
  const { streams } = own;
  // found once water is known, so that both jobs do not wait for each other
  const { list: errors } = useHollows(streams && mine ? drainedOf(mine) : null, "error", 0);
  const range: [number, number] = [streams?.least ?? 0.1, streams?.most ?? 1000];
  const at = Math.min(Math.max(params.begins_at, range[0]), range[1]);
  const marks = useMemo(() => {
    const placed = own.catchments.length === outlets.length ? own.catchments : outlets;
    return placed.map(({ x, y }, i) => ({
      number: i + 1,
      at: [x, y] as [number, number],
      here: false,
      press: () => undefined,
    }));
  }, [own.catchments, outlets]);
  // an outlet is called by what is near it, once that is known
  useEffect(() => {
    const called = outlets.map((one, i) => {
      const near = own.caught ? own.catchments[i]?.near : "";
      return near && USUAL_NAME.test(one.name) ? { ...one, name: near } : one;
    });
    if (called.some((one, i) => one !== outlets[i])) set({ outlets: called });
  }, [outlets, own.caught, own.catchments, set]);
  // the list of hollows has its own numbers
  useOverlay("suspects", tab === HOLLOWS_TAB ? null : marks);
  const press = useTool("pick", ({ x, y }) => {
    if (outlets.length >= MOST_OUTLETS) return;
    set({ outlets: [...outlets, { name: `Outlet ${outlets.length + 1}`, x, y }] });
  });
  const follow = useTool("pick", ({ x, y }) => set({ from: { x, y } }));
  const told = [{ slot, found: own.streams }, ...(other ? [{ slot: otherSlot as Slot, found: beside.streams }] : [])];
  const waiting = (one: typeof own) => one.running && `Following the water … ${num(100 * one.progress)} %`;
  return (
    <OperationSheet
      work={work}
      name={`Streams of ${chosen?.name ?? "a surface"}`}
      findings={[...work.findings, ...findingsOf(streams, errors)]}
      parts={[
        {
          title: "Surface",
          of: [
            "in:surface",
            "in:kept",
            "sea",
            other && !keptBeside && (
              <NumberField
                key="sea beside"
                label={`Sea up to, in ${LETTER[otherSlot]}`}
                unit="m"
                title="Another surface may have another zero, so that its sea lies at another height."
                value={seaBeside ?? null}
                placeholder={params.sea == null ? "none" : `as here, ${num(params.sea, params.sea % 1 ? 1 : 0)}`}
                onChange={(next) => set({ seaBeside: next ?? undefined })}
              />
            ),
          ],
        },
        {
          title: "Burned in",
          of: ["in:burned", ...(burned === null ? [] : (["bed_width", "bed_depth", "bed_bank"] as const))],
        },
        {
          title: "Hollows",
          aside: streams && `${num(streams.filled)} filled, ${num(streams.breached)} breached`,
          of: [
            "method",
            "most_depth",
            "most_area",
            "most_length",
            streams && (
              <p key="moved" className="mut small-print">
                {cubic(streams.moved ?? 0)} of ground are moved.{" "}
                <Button kind="link" onClick={() => useDesk.getState().set({ tab: HOLLOWS_TAB })}>
                  List of hollows
                </Button>
              </p>
            ),
          ],
        },
        {
          title: "Streams",
          aside: streams?.cut_short ? "the largest of them" : undefined,
          of: [
            <div key="threshold">
              {streams && params.heads === "area" && (
                <ThresholdCurve curve={streams.curve ?? []} range={range} at={at} />
              )}
              <Slide
                label="Begins at"
                range={[Math.log10(range[0]), Math.log10(range[1]), 0.01]}
                value={Math.log10(at)}
                shown={`${hectares(at)} ha`}
                onChange={(power) => work.setParams({ begins_at: Number((10 ** power).toPrecision(3)) })}
              />
            </div>,
            <Field key="exactly" work={work} name="begins_at" label="Exactly" />,
            "heads",
            "minimum_length",
            "over_level",
            "smooth",
            other && (
              <Check
                key="apart"
                label={`Draw only where ${LETTER[slot]} and ${LETTER[otherSlot]} part by ${num(within)} m`}
                checked={apart}
                onChange={(next) => set({ apart: next })}
              />
            ),
            streams?.begins_at != null && Math.abs(streams.begins_at / params.begins_at - 1) > 0.01 && !own.running && (
              <p key="nearest" className="mut small-print">
                Shown from {hectares(streams.begins_at)} ha on, the nearest that is known. A run takes what is typed.
              </p>
            ),
            <Pair
              key="figures"
              of={told.flatMap(({ slot, found }) =>
                found
                  ? [{ slot, shown: `${counted(found.count, "stream", "streams")}, ${kilometres(found.length)} km` }]
                  : [],
              )}
            />,
            (own.running || beside.running) && (
              <p key="running" className="mut small-print" role="status">
                {waiting(own) || waiting(beside)}
              </p>
            ),
            [refused, own.failed, beside.failed].some(Boolean) && (
              <Refusal key="failed" sentence={refused ?? own.failed ?? beside.failed ?? ""} />
            ),
            [own, beside].some((one) => one.failed && !one.streams && !one.running) && project.role !== "viewer" && (
              <p key="again" className="times">
                <Button
                  kind="link"
                  onClick={() => {
                    for (const one of [own, beside]) if (one.failed) one.again();
                  }}
                >
                  Try again
                </Button>
              </p>
            ),
            !own.running && !streams && chosen && project.role === "viewer" && (
              <p key="viewer" className="mut small-print">
                Water over this surface was not worked out yet. Ask an editor to open this sheet.
              </p>
            ),
          ],
        },
        {
          title: "Against known rivers",
          of: [
            <Choice
              key="reference"
              label="Reference"
              value={String(known ?? NONE)}
              options={[
                { value: NONE, title: "none" },
                ...rivers.map((one) => ({ value: String(one.id), title: one.name })),
              ]}
              onChange={(one) => set({ reference: one === NONE ? null : Number(one) })}
            />,
            known !== null && (
              <NumberField
                key="within"
                label="Found within"
                unit="m"
                value={within}
                onChange={(next) => set({ within: Math.min(Math.max(next ?? 20, 0.1), 10_000) })}
              />
            ),
            known !== null && (
              <Alike
                key="alike"
                of={[
                  { slot, found: own.likeness },
                  { slot: otherSlot, found: beside.likeness },
                ]}
              />
            ),
          ],
        },
        {
          title: "Catchments",
          aside:
            other &&
            `${LETTER[slot]} ${chosen?.name}, ${LETTER[otherSlot]} ${other.name}${keptBeside ? `, ${hollowsOf(keptBeside)}` : ""}`,
          of: [
            <CatchmentsTable
              key="outlets"
              of={[
                { slot, catchments: own.catchments },
                ...(other ? [{ slot: otherSlot as Slot, catchments: beside.catchments }] : []),
              ]}
            />,
            outlets.length > 0 && (
              <Check
                key="above"
                label="Streams only above these"
                checked={above}
                onChange={(next) => set({ above: next })}
              />
            ),
            <p key="press" className="times">
              <Button kind="link" aria-pressed={press.inHand} onClick={() => press.put(!press.inHand)}>
                {press.inHand ? "Press no more outlets" : "Press an outlet on the map"}
              </Button>
            </p>,
            <p key="follow" className="times">
              <Button kind="link" aria-pressed={follow.inHand} onClick={() => follow.put(!follow.inHand)}>
                {follow.inHand ? "Follow no more water" : "Follow water down from a press"}
              </Button>
              {from && (
                <Button kind="link" onClick={() => set({ from: null })}>
                  Forget it
                </Button>
              )}
            </p>,
            from && (
              <div key="way">
                {([[slot, own], ...(other ? [[otherSlot, beside] as const] : [])] as const).map(([where, one]) => (
                  <p key={where} className="mut small-print">
                    <b>{LETTER[where]}</b> {one.noWay ?? wayOf(one.way)}
                  </p>
                ))}
              </div>
            ),
            <NumberField
              key="snap"
              label="Move up to"
              unit="m"
              title="Each outlet is moved to where most ground drains within it."
              value={snap}
              onChange={(next) => set({ snap: Math.min(Math.max(next ?? 0, 0), 10_000) })}
            />,
          ],
        },
        { title: "Result", of: ["output", "name"] },
      ]}
    />
  );
}
