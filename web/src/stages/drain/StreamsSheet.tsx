import { useEffect, useMemo } from "react";
import type { Catchments, Holding, Network, Streams, WayDown } from "../../api/client";
import { useAtMap } from "../../desk/atMap";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { type InkedLine, useOverlay } from "../../desk/overlays";
import { useOwnTab } from "../../desk/ownTab";
import { useDesk } from "../../desk/store";
import { Alike } from "../../drain/Alike";
import { DrainLegend } from "../../drain/DrainLegend";
import styles from "../../drain/drain.module.css";
import { findingsOf } from "../../drain/findings";
import { HOLLOWS, HOLLOWS_TAB } from "../../drain/HollowsTab";
import { NETWORKS } from "../../drain/NetworksTab";
import { LETTER, type LegendLine, type Looked, type Slot, useDrainState } from "../../drain/state";
import { ThresholdCurve } from "../../drain/ThresholdCurve";
import { useDrained } from "../../drain/useDrained";
import { useSaid } from "../../drain/useHollows";
import { useReference } from "../../drain/useReference";
import { counted, cubic, hectares, hollowsOf, kilometres, square } from "../../drain/words";
import { INKS, SLOT_INKS } from "../../map/dress";
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

const WIDEST = 5; // pixels of a stream of the highest order
const INK: Record<Slot, string> = { ...SLOT_INKS, none: INKS[0] as string };
/** The rim of a catchment: a band that lets the ground through, or dashes. */
const ringOf = (slot: Slot) =>
  slot === "b" ? { ink: INK.b, width: 2, dashed: true } : { ink: `${INK[slot]}8C`, width: 7, dashed: false };
const UNSURE = "#9C2B2B"; // of what is not to be trusted
const MOST_OUTLETS = 50;
const USUAL_NAME = /^Outlet \d+$/;
const NONE = "none";

/** The rims of catchments of both slots; dashes over bands. */
const ringsOf = (of: [Slot, Catchments["catchments"]][]): InkedLine[] =>
  of
    .flatMap(([slot, caught = []]) => caught.flatMap(({ rings }) => rings.map((line) => ({ line, ...ringOf(slot) }))))
    .sort((one, other) => other.width - one.width);

function linesOf(slot: Slot, streams: Streams | undefined, way: WayDown | undefined): InkedLine[] {
  const ink = INK[slot];
  const down = way?.line?.length ? [{ line: way.line, ink, width: 4, dashed: true }] : [];
  // low orders first, so that they lie below
  const links = [...(streams?.streams ?? [])].reverse();
  const unsure = (streams?.unsure ?? []).map((line) => ({ line, ink: UNSURE, width: 2, dashed: true }));
  return [...links.map(({ order, line }) => ({ line, ink, width: Math.min(0.8 + order, WIDEST) })), ...unsure, ...down];
}

/** What is drawn of the water of both slots. */
function legendOf(drawn: { slot: Slot; found: ReturnType<typeof useDrained> }[]): LegendLine[] {
  const of = (slot: Slot) => (slot === "none" ? "" : ` of ${LETTER[slot]}`);
  const lines = drawn.flatMap(({ slot, found }) => {
    const ink = INK[slot];
    const streams = found.streams?.streams?.length
      ? [{ title: `streams${of(slot)}, by order`, ink, width: 3, dashed: false }]
      : [];
    const rings = found.catchments.some((one) => one.rings.length);
    const way = found.way?.line?.length
      ? [{ title: `way of water in ${LETTER[slot]}`, ink, width: 4, dashed: true }]
      : [];
    return [...streams, ...(rings ? [{ title: `catchments${of(slot)}`, ...ringOf(slot) }] : []), ...way];
  });
  const unsure = drawn.some(({ found }) => found.streams?.unsure?.length);
  return unsure ? [...lines, { title: "level ground, not to be trusted", ink: UNSURE, width: 2, dashed: true }] : lines;
}

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
  // hollows that somebody said hold water keep it
  const elsewhere = useMemo(
    () => ({
      params: {
        waters_at: (said ?? []).flatMap(({ x, y, kind }): [number, number][] => (kind === "water" ? [[x, y]] : [])),
      },
      inputs: {},
      ready: said !== undefined,
    }),
    [said],
  );
  const work = useWorksheet("streams", elsewhere);
  const { a, b } = useHeld();
  const { chosen } = useRole(work, "surface");
  const { params } = work;
  const { outlets, snap, within, from, beside: besideIt, seaBeside, apart, set } = useDrainState();
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
  const drawn = JSON.stringify(
    legendOf([{ slot, found: own }, ...(other ? [{ slot: otherSlot as Slot, found: beside }] : [])]),
  );
  useEffect(() => set({ legend: JSON.parse(drawn) as LegendLine[] }), [drawn, set]);
  useAtMap(DrainLegend);
  useEffect(() => () => set({ looked: [], legend: [], beside: null }), [set]);
  useOwnTab(HOLLOWS, never);
  useOwnTab(NETWORKS, nothingElse);
  const { streams } = own;
  const range: [number, number] = [streams?.least ?? 0.1, streams?.most ?? 1000];
  const at = Math.min(Math.max(params.begins_at, range[0]), range[1]);
  const lines = useMemo(
    () => [
      ...ringsOf([
        [slot, own.catchments],
        [otherSlot, beside.catchments],
      ]),
      ...linesOf(otherSlot, beside.streams, beside.way),
      ...linesOf(slot, own.streams, own.way),
    ],
    [slot, otherSlot, own.streams, own.catchments, own.way, beside.streams, beside.catchments, beside.way],
  );
  useOverlay("inked", lines);
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
      findings={[...work.findings, ...findingsOf(streams)]}
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
            outlets.length > 0 && (
              <table key="outlets" className={`t tight ${styles.table}`} aria-label="Catchments">
                <thead>
                  <tr>
                    <th className="w">outlet</th>
                    <th title="How far it was moved to where most ground drains">moved</th>
                    <th>{LETTER[slot]} km²</th>
                    {other && <th>{LETTER[otherSlot]} km²</th>}
                    {other && <th title="What both share, of what they cover together">shared</th>}
                    <th aria-label="Remove" />
                  </tr>
                </thead>
                <tbody>
                  {outlets.map((one, i) => {
                    const [first, second] = [own.catchments[i], beside.catchments[i]];
                    return (
                      // biome-ignore lint/suspicious/noArrayIndexKey: outlets may lie in one place
                      <tr key={i} title={first?.reason}>
                        <td className="w">
                          <b className="n">{i + 1}</b> {one.name}
                        </td>
                        <td className="n">{first?.area != null ? `${num(first.moved)} m` : ""}</td>
                        <td className="n">{first?.area != null ? square(first.area) : "–"}</td>
                        {other && <td className="n">{second?.area != null ? square(second.area) : "–"}</td>}
                        {other && <td className="n">{first?.common != null ? `${num(100 * first.common)} %` : "–"}</td>}
                        <td>
                          <Button
                            kind="link"
                            aria-label={`Remove outlet ${i + 1}`}
                            onClick={() => set({ outlets: outlets.filter((_, j) => j !== i) })}
                          >
                            ×
                          </Button>
                        </td>
                      </tr>
                    );
                  })}
                </tbody>
              </table>
            ),
            ...own.catchments.flatMap(({ reason }, i) =>
              reason
                ? [
                    // biome-ignore lint/suspicious/noArrayIndexKey: outlets may lie in one place
                    <p key={`reason ${i}`} className="mut small-print">
                      <b className="n">{i + 1}</b> {reason}
                    </p>,
                  ]
                : [],
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
