import { useCallback, useEffect, useState } from "react";
import type { Finding, Holding, Picture } from "../../api/client";
import { quantityOf, useHeld } from "../../desk/context";
import { num, shortUnit } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Methods } from "../build/Methods";
import { Beside, Choice, Findings, has, NameRow, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useWorksheet } from "../useWorksheet";
import { type Given, GivenAreas } from "./GivenAreas";
import { RuleIcon } from "./RuleIcon";
import { Sources } from "./Sources";
import { accuracyOf, doubtsAbout, flattened, INSPECT, type Source, sourcesOf } from "./sources";
import { type Overlaps, useOverlaps } from "./useOverlaps";
import { useRulePictures } from "./useRulePictures";

const RULES: [string, string, string][] = [
  ["priority", "Best first", "The best lie on top and fade out towards their own edge."],
  ["feather", "Feather", "A mean in which each surface weighs less towards its own edge."],
  ["seam", "Seam", "One surface on each side of a line along which both agree best."],
  ["first", "First", "The first of the list that has a height there."],
  ["last", "Last", "The last of the list that has a height there."],
  ["nearest", "Middle", "The surface whose own middle is nearest."],
  ["mean", "Mean", "The mean of all heights there."],
  ["lowest", "Lowest", "The lowest of the heights there."],
  ["highest", "Highest", "The highest of the heights there."],
  ["sum", "Sum", "The sum of all heights there."],
  ["count", "Count", "How many surfaces have a height there."],
  ["spread", "Spread", "How far the highest stands above the lowest, where two or more have a height."],
];
const RULE_NAMES = RULES.map(([name]) => name);
const NONE: Given[] = [];
const LEVELLING = [
  { value: "none", title: "as they are" },
  { value: "offset", title: "by an offset each" },
  { value: "tilt", title: "by offset and tilt" },
];
const RESULTS = [
  { value: "height", title: "heights" },
  { value: "source", title: "which surface it is too" },
];
const DIFFERENCE = { value: "difference", title: "the difference of a pair too" };

/** What the overlaps say against joining the surfaces as they are. */
export function aboutOverlaps(found: Overlaps | null | undefined, names: string[], levelling: string): Finding[] {
  if (!found || found.planes.length !== names.length) return [];
  const findings: Finding[] = [];
  const plain = { fix: null, places: [] };
  const high = new Map<number, number[]>();
  for (const pair of found.pairs.filter((one) => one.unit_factor > 0)) {
    const [one, other] = pair.unit_factor > 1 ? [pair.first, pair.second] : [pair.second, pair.first];
    high.set(one, [...(high.get(one) ?? []), other]);
  }
  for (const [one, others] of high)
    findings.push({
      code: `unit-${one}`,
      weight: "caution",
      sentence: `${names[one]} stands 3.28 times as high as ${names[others[0] ?? 0]}${others.length > 1 ? ` and ${others.length - 1} more` : ""}.`,
      why: "It looks to be in feet. Declare that in Gather, under What came in, or leave it out.",
      ...plain,
    });
  const steps = found.pairs.filter((one) => !one.unit_factor && Math.abs(one.median) > Math.max(one.nmad, 0.1));
  const worst = steps.sort((one, other) => Math.abs(other.median) - Math.abs(one.median))[0];
  if (worst && levelling === "none")
    findings.push({
      code: "offset",
      weight: "caution",
      sentence: `${names[worst.first]} stands ${num(Math.abs(worst.median), 2)} ${shortUnit(found.unit)} ${worst.median > 0 ? "above" : "below"} ${names[worst.second]} at the median.`,
      why: "More than they scatter: another zero level, or a strip that was not adjusted.",
      fix: { label: "Level by an offset", set_params: { levelling: "offset" } },
      places: [],
    });
  const left = found.pairs.filter((one) => !one.unit_factor && Math.abs(one.after) > Math.max(one.nmad, 0.5));
  if (levelling !== "none" && left.length)
    findings.push({
      code: "left",
      weight: "note",
      sentence: `After levelling ${left.length === 1 ? "one overlap still differs" : `${left.length} overlaps still differ`} by more than its scatter.`,
      why: "The overlaps contradict each other there; look at them one by one.",
      ...plain,
    });
  return findings;
}

/** What a rule makes of the middle of the view. */
function RulePicture({ picture }: { picture: Picture | undefined }) {
  if (picture?.png) return <img className="rule" alt="" src={`data:image/png;base64,${picture.png}`} />;
  return <span className="rule none" title={picture?.said} />;
}

/** Many surfaces become one: which, in what order, levelled how, and by what rule. */
export function MosaicSheet() {
  const { surfaces, features } = useHeld();
  const set = useDesk((desk) => desk.set);
  const open = useDesk((desk) => desk.open);
  const work = useWorksheet("mosaic", ["surfaces"]);
  const { params, setParams, setInput } = work;
  const { chosen, overlaps, failed } = useOverlaps();
  const surfacesGiven = work.inputs.surfaces;
  // an upload that was taken in again with more declared counts once
  const usable = surfaces.filter((one) => quantityOf(one) === "height" && !one.fixed_by);
  const areas = features.filter((one) => has(one, "polygons"));

  const take = useCallback(
    (sources: Source[], more: Record<string, unknown> = {}) => {
      const { ids, groups } = flattened(sources);
      setInput("surfaces", ids);
      setParams({ groups, ...more });
    },
    [setInput, setParams],
  );
  useEffect(() => {
    if (surfacesGiven !== undefined || !usable.length) return;
    // what was joined of several of them would count twice; the most accurate first, then the finest
    const there = new Set(surfaces.map(({ id }) => id));
    const partsOf = (one: Holding) =>
      Object.values(one.recipe?.input_ids ?? {})
        .flat()
        .filter((id) => there.has(id));
    const made = sourcesOf(usable.filter((one) => partsOf(one).length < 2));
    const worth = (one: Source) => accuracyOf(one)?.nmad ?? 1_000 + (one.holdings[0]?.surface?.cell_size ?? 0);
    take(made.sort((one, other) => worth(one) - worth(other)));
  }, [surfacesGiven, surfaces, usable, take]);
  useEffect(() => {
    set({ tab: "overlaps" });
    return () => {
      if (useDesk.getState().tab === "overlaps") set({ tab: "surfaces" });
    };
  }, [set]);

  const used = new Set(chosen.flatMap((one) => one.holdings));
  const others = sourcesOf(usable.filter((one) => !used.has(one)));
  const rule = (params.rule as string) ?? "priority";
  const seams = rule === "seam" ? overlaps?.seams : undefined;
  const given = (params.given as Given[] | undefined) ?? NONE;
  useEffect(() => {
    const rings = rule === "seam" ? given.flatMap(({ ring }) => (ring[0] ? [[...ring, ring[0]]] : [])) : [];
    set({ seams: [...(seams ?? []), ...rings] });
    return () => set({ seams: [] });
  }, [seams, given, rule, set]);
  const giveAreas = useCallback((next: Given[]) => setParams({ given: next.length ? next : null }), [setParams]);
  const [shown, setShown] = useState(false);
  const pictures = useRulePictures(RULE_NAMES, shown);
  const drawn = shown
    ? new Map(RULE_NAMES.map((name, i) => [name, pictures.pictures?.[i]] as [string, Picture | undefined]))
    : null;
  const levelling = (params.levelling as string) ?? "none";
  const held = Math.min((params.held as number) ?? 0, Math.max(chosen.length - 1, 0));
  const names = chosen.map((one) => one.name);
  const says = RULES.find(([name]) => name === rule)?.[1].toLowerCase() ?? rule;
  const name = work.sheet.name || `Mosaic, ${says}`;
  const findings = [...doubtsAbout(chosen), ...aboutOverlaps(overlaps, names, levelling), ...work.findings];
  const change = (next: Source[]) => {
    // whoever is held stays held wherever it is moved to
    const holds = chosen[held]?.name;
    const paired = (params.pair as number[] | undefined)?.map((i) => chosen[i]?.name);
    const placeOf = (name: string | undefined) => next.findIndex((one) => one.name === name);
    if (paired?.some((one) => placeOf(one) < 0)) work.setOutput(null);
    take(next, {
      ...(params.held === undefined ? {} : { held: Math.max(placeOf(holds), 0) }),
      // so do the two whose difference is shown; without one of them there is none
      ...(paired ? (paired.every((one) => placeOf(one) >= 0) ? { pair: paired.map(placeOf) } : { pair: null }) : {}),
      ...(given.length
        ? {
            given: given.flatMap((one) => {
              const surface = placeOf(chosen[one.surface]?.name);
              return surface < 0 ? [] : [{ ...one, surface }];
            }),
          }
        : {}),
    });
  };
  if (!usable.length)
    return (
      <Sheet stage="Join" title="Mosaic">
        <p className="remark">No surface yet. Add or order tiles in Gather, or make one in Build.</p>
      </Sheet>
    );
  return (
    <Sheet stage="Join" title="Mosaic" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="Surfaces" aside={`${chosen.length} of ${chosen.length + others.length} used`}>
        <Sources
          chosen={chosen}
          others={others}
          overlaps={overlaps}
          levelled={levelling !== "none"}
          held={held}
          onChange={change}
        />
        {areas.length > 0 && <Beside label="Area" input="area" holdings={areas} work={work} none="the frame" />}
      </Section>
      <Section title="Where they overlap">
        <Methods
          label="Rule"
          across={drawn ? 3 : 4}
          methods={RULES}
          value={rule}
          icon={(one) => (drawn ? <RulePicture picture={drawn.get(one)} /> : <RuleIcon rule={one} />)}
          onChange={(next) => setParams({ rule: next })}
        />
        <p className="hint">{RULES.find(([one]) => one === rule)?.[2]}</p>
        {chosen.length > 1 && (
          <p className="times">
            <button type="button" className="lnk" aria-pressed={shown} onClick={() => setShown(!shown)}>
              {shown ? "Hide the pictures" : "Show each in the middle of the view"}
            </button>
            {shown && pictures.waiting && <span className="mut">drawing…</span>}
            {shown && pictures.failed && <span className="err">{pictures.failed}</span>}
          </p>
        )}
        {(rule === "priority" || rule === "feather") && (
          <div className="row two">
            <NumberField
              label="Fades over"
              unit="m"
              value={(params.feather as number) ?? 40}
              onChange={(feather) => setParams({ feather })}
            />
          </div>
        )}
        {rule === "seam" && (
          <>
            <div className="row two">
              <NumberField
                label="Within"
                unit="m"
                value={(params.band as number) ?? 200}
                onChange={(band) => setParams({ band })}
              />
            </div>
            <GivenAreas names={names} given={given} onChange={giveAreas} />
          </>
        )}
      </Section>
      <Section
        title="Levelling"
        aside={
          overlaps ? `over ${overlaps.pairs.length} ${overlaps.pairs.length === 1 ? "overlap" : "overlaps"}` : undefined
        }
      >
        <Choice
          label="Surfaces are"
          value={levelling}
          options={LEVELLING}
          onChange={(next) => setParams({ levelling: next })}
        />
        {levelling !== "none" && (
          <Choice
            label="Held fixed"
            value={String(held)}
            options={names.map((title, i) => ({ value: String(i), title }))}
            onChange={(next) => setParams({ held: Number(next) })}
          />
        )}
      </Section>
      <Section title="Result">
        <Choice
          label="Cells say"
          value={work.output ?? "height"}
          options={work.output === "difference" ? [...RESULTS, DIFFERENCE] : RESULTS}
          onChange={(next) => {
            work.setOutput(next === "height" ? null : next);
            if (next !== "difference") setParams({ pair: null });
          }}
        />
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      {failed && (
        <p className="said">
          <span className="err" role="alert">
            {failed}
          </span>
        </p>
      )}
      <Findings
        findings={findings}
        onFix={(values) => {
          if (!(INSPECT in values)) return setParams(values);
          open("Gather", "arrivals");
          set({ inspected: values[INSPECT] as number });
        }}
      />
    </Sheet>
  );
}
