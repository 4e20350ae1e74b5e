import { useMemo } from "react";
import type { Catchments, Drained, Holding, NetworkLikeness, Streams, WayDown } from "../../api/client";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { type InkedLine, useOverlay, usePlaces } from "../../desk/overlays";
import styles from "../../drain/drain.module.css";
import { useDrainState } from "../../drain/state";
import { ThresholdCurve } from "../../drain/ThresholdCurve";
import { type Asked, useDrained } from "../../drain/useDrained";
import { INKS, SLOT_INKS } from "../../map/dress";
import { useTool } from "../../tools/useTool";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { Refusal } from "../../ui/Refusal";
import { Slide } from "../../ui/Slide";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { has, useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

/** Where a surface is looked at: in A, in B, or in neither. */
type Slot = "a" | "b" | "none";
const WIDEST = 5; // pixels of a stream of the highest order
const INK: Record<Slot, string> = { ...SLOT_INKS, none: INKS[0] as string };
const LETTER: Record<Slot, string> = { a: "A", b: "B", none: "It" };
const RING = { a: { width: 3, dashed: false }, b: { width: 2, dashed: true }, none: { width: 3, dashed: false } };
const MOST_OUTLETS = 50;
const NONE = "none";

const kilometres = (metres: number) => num(metres / 1000, metres < 100_000 ? 1 : 0);
const hectares = (area: number) => num(area, area < 1 ? 2 : area < 10 ? 1 : 0);
const square = (area: number) => num(area, area < 0.1 ? 4 : area < 10 ? 2 : 1);

const counted = (count: number, one: string, many: string) => `${num(count)} ${count === 1 ? one : many}`;
const placesOf = (count: number) => counted(count, "place", "places");

function linesOf(
  slot: Slot,
  streams: Streams | undefined,
  catchments: Catchments["catchments"] = [],
  way: WayDown | undefined,
): InkedLine[] {
  const ink = INK[slot];
  const down = way?.line?.length ? [{ line: way.line, ink, width: 4, dashed: true }] : [];
  const rings = catchments.flatMap(({ rings }) => rings.map((line) => ({ line, ink, ...RING[slot] })));
  // low orders first, so that they lie below
  const links = [...(streams?.streams ?? [])].reverse();
  return [...rings, ...links.map(({ order, line }) => ({ line, ink, width: Math.min(0.8 + order, WIDEST) })), ...down];
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

/** How alike the streams of both slots are to known rivers, and where they part from them. */
function Alike({ of }: { of: { slot: Slot; found: NetworkLikeness | undefined }[] }) {
  const marks = usePlaces();
  const rows = of.flatMap(({ slot, found }) => (found?.found != null ? [{ slot, found }] : []));
  if (!rows.length) return null;
  return (
    <table className={`t tight ${styles.table}`} aria-label="Against known rivers">
      <thead>
        <tr>
          <th className="w" aria-label="Of" />
          <th title="How much of the reference lies within the distance of the streams">found</th>
          <th title="How much of the streams lies within the distance of the reference">near it</th>
          <th title="Mean distance from the streams to the reference">mean</th>
          <th title="Where they are farther apart than that for longer than three times the distance">part at</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ slot, found }) => (
          <tr key={slot}>
            <td className="w">
              <b>{LETTER[slot]}</b>
            </td>
            <td className="n">{num(100 * (found.found ?? 0))} %</td>
            <td className="n">{num(100 * (found.own_near ?? 0))} %</td>
            <td className="n">{num(found.mean, 1)} m</td>
            <td>
              {found.partings?.length ? (
                <Button
                  kind="link"
                  aria-pressed={marks.shown}
                  aria-label={`${placesOf(found.parted ?? 0)} where ${LETTER[slot]} parts from the reference`}
                  title={
                    (found.parted ?? 0) > found.partings.length
                      ? `The ${found.partings.length} longest are shown`
                      : undefined
                  }
                  onClick={() => marks.show(marks.shown ? null : (found.partings ?? []).map(({ x, y }) => [x, y]))}
                >
                  {placesOf(found.parted ?? 0)}
                </Button>
              ) : (
                "none"
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Streams of a surface and the ground above places on them, beside those of the surface in B. */
export function StreamsSheet() {
  const project = useProject();
  const work = useWorksheet("streams");
  const { a, b, features } = useHeld();
  const { chosen } = useRole(work, "surface");
  const { params } = work;
  const { outlets, snap, reference, within, from, set } = useDrainState();
  const kept = work.ids("kept")[0] ?? null;
  const burned = work.ids("burned")[0] ?? null;
  const asked = (one: Holding | undefined): Asked | null =>
    (one && {
      drained: {
        surface: one.id,
        kept,
        method: params.method,
        most_depth: params.most_depth ?? null,
        most_area: params.most_area ?? null,
        most_length: params.most_length ?? null,
        sea: params.sea ?? null,
        burned,
        bed_width: params.bed_width,
        bed_depth: params.bed_depth,
        bed_bank: params.bed_bank,
      } satisfies Drained,
      beginsAt: params.begins_at,
      minimumLength: params.minimum_length,
    }) ??
    null;
  const slot: Slot = chosen?.key === a?.key ? "a" : chosen?.key === b?.key ? "b" : "none";
  // what is looked at beside it: the other slot, where that holds heights
  const otherSlot = slot === "b" ? "a" : "b";
  const candidate = slot === "b" ? a : b;
  const other =
    candidate && candidate.id !== chosen?.id && quantityOf(candidate) === "height" && !candidate.lookedAt
      ? candidate
      : undefined;
  const rivers = features.filter((one) => has(one, "lines"));
  const usual = rivers.find((one) => /river|stream/i.test(one.name) && one.recipe === null);
  const known = reference === undefined ? (usual?.id ?? null) : reference;
  const own = useDrained(asked(chosen), known);
  const beside = useDrained(asked(other), known);
  const { streams } = own;
  const range: [number, number] = [streams?.least ?? 0.1, streams?.most ?? 1000];
  const at = Math.min(Math.max(params.begins_at, range[0]), range[1]);
  const lines = useMemo(
    () => [
      ...linesOf(otherSlot, beside.streams, beside.catchments, beside.way),
      ...linesOf(slot, own.streams, own.catchments, own.way),
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
  useOverlay("suspects", marks);
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
      findings={[
        ...work.findings,
        ...(streams?.left
          ? [
              {
                code: "left",
                weight: "note" as const,
                sentence: `${counted(streams.left, "hollow keeps its water", "hollows keep their water")}.`,
                why: "Streams that come to it end there.",
                fix: null,
                places: [],
              },
            ]
          : []),
      ]}
      parts={[
        { title: "Surface", of: ["in:surface", "in:kept", "sea"] },
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
                <span className="n">{num(streams.moved)}</span> m³ of ground are moved.
              </p>
            ),
          ],
        },
        {
          title: "Streams",
          aside: streams?.cut_short ? "the largest of them" : undefined,
          of: [
            <div key="threshold">
              {streams && <ThresholdCurve curve={streams.curve ?? []} range={range} at={at} />}
              <Slide
                label="Begins at"
                range={[Math.log10(range[0]), Math.log10(range[1]), 0.01]}
                value={Math.log10(at)}
                shown={`${hectares(at)} ha`}
                onChange={(power) => work.setParams({ begins_at: Number((10 ** power).toPrecision(3)) })}
              />
            </div>,
            <Field key="exactly" work={work} name="begins_at" label="Exactly" />,
            "minimum_length",
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
            [own.failed, beside.failed].some(Boolean) && (
              <Refusal key="failed" sentence={own.failed ?? beside.failed ?? ""} />
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
          aside: other && `${LETTER[slot]} ${chosen?.name}, ${LETTER[otherSlot]} ${other.name}`,
          of: [
            outlets.length > 0 && (
              <table key="outlets" className={`t tight ${styles.table}`} aria-label="Catchments">
                <thead>
                  <tr>
                    <th className="w">outlet</th>
                    <th title="How far it was moved to where most ground drains">moved</th>
                    <th>{LETTER[slot]} km²</th>
                    {other && <th>{LETTER[otherSlot]} km²</th>}
                    <th aria-label="Remove" />
                  </tr>
                </thead>
                <tbody>
                  {outlets.map((one, i) => {
                    const [first, second] = [own.catchments[i], beside.catchments[i]];
                    return (
                      // biome-ignore lint/suspicious/noArrayIndexKey: outlets may lie in one place
                      <tr key={i}>
                        <td className="w">
                          <b className="n">{i + 1}</b> {one.name}
                          {first?.reason && <p className="mut">{first.reason}</p>}
                        </td>
                        <td className="n">{first?.area != null ? `${num(first.moved)} m` : ""}</td>
                        <td className="n">{first?.area != null ? square(first.area) : "–"}</td>
                        {other && <td className="n">{second?.area != null ? square(second.area) : "–"}</td>}
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
