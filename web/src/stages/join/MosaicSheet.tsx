import { useCallback, useEffect, useMemo, useState } from "react";
import type { Finding, Holding, Picture } from "../../api/client";
import { choicesOf, propertyOf } from "../../api/operations";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { num, shortUnit, size } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useOwnTab } from "../../desk/ownTab";
import { accuracyOf, type Source, sourcesOf } from "../../desk/products";
import { useDesk } from "../../desk/store";
import type { Line } from "../../map/shapes";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Methods } from "../build/Methods";
import { OperationSheet } from "../OperationSheet";
import { OutputChoice } from "../OutputChoice";
import { RoleField } from "../RoleField";
import { useWorksheet } from "../useWorksheet";
import { type Given, GivenAreas } from "./GivenAreas";
import { OverlapsTab } from "./OverlapsTab";
import { RuleIcon } from "./RuleIcon";
import { Sources } from "./Sources";
import { doubtsAbout, flattened, INSPECT } from "./sources";
import { type Overlaps, useOverlaps } from "./useOverlaps";
import { useRulePictures } from "./useRulePictures";

const NAME = "mosaic";
const FRAMES = "frame";
const OVERLAPS = { title: "Overlaps", hint: "Press a pair to see its difference on the map", Body: OverlapsTab };
const RULES = choicesOf(NAME, "rule");
const RULE_NAMES = RULES.map(({ value }) => value);

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
  const { surfaces } = useHeld();
  const { frame } = useProject();
  const set = useDesk((desk) => desk.set);
  const open = useDesk((desk) => desk.open);
  const work = useWorksheet(NAME);
  const { params, setParams, setInput } = work;
  const { rule, levelling, given } = params;
  const { chosen, overlaps, failed } = useOverlaps();
  const surfacesGiven = work.sheet.inputs.surfaces;
  // an upload that was taken in again with more declared counts once
  const usable = surfaces.filter((one) => quantityOf(one) === "height" && !one.fixed_by);

  const take = useCallback(
    (sources: Source[], more: Partial<typeof params> = {}) => {
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
  useOwnTab(OVERLAPS);

  const used = new Set(chosen.flatMap((one) => one.holdings));
  const others = sourcesOf(usable.filter((one) => !used.has(one)));
  const seams = rule === "seam" ? overlaps?.seams : undefined;
  const seamLines = useMemo(() => {
    const rings = rule === "seam" ? given.flatMap(({ ring }) => (ring[0] ? [[...ring, ring[0]]] : [])) : [];
    return [...((seams ?? []) as Line[]), ...rings];
  }, [seams, given, rule]);
  useOverlay("seams", seamLines);
  const giveAreas = useCallback((next: Given[]) => setParams({ given: next.length ? next : null }), [setParams]);
  const [shown, setShown] = useState(false);
  const pictures = useRulePictures(RULE_NAMES, shown);
  const drawn = shown
    ? new Map(RULE_NAMES.map((name, i) => [name, pictures.pictures?.[i]] as [string, Picture | undefined]))
    : null;
  const held = Math.min(params.held, Math.max(chosen.length - 1, 0));
  const names = chosen.map((one) => one.name);
  const says = RULES.find(({ value }) => value === rule)?.title ?? rule;
  const findings = [...doubtsAbout(chosen), ...aboutOverlaps(overlaps, names, levelling), ...work.findings];
  const change = (next: Source[]) => {
    // whoever is held stays held wherever it is moved to
    const holds = chosen[held]?.name;
    const paired = params.pair.length ? params.pair.map((i) => chosen[i]?.name) : undefined;
    const placeOf = (name: string | undefined) => next.findIndex((one) => one.name === name);
    if (paired?.some((one) => placeOf(one) < 0)) work.setOutput(null);
    take(next, {
      ...(work.given.held === undefined ? {} : { held: Math.max(placeOf(holds), 0) }),
      // so do the two whose difference is shown; without one of them there is none
      ...(paired ? (paired.every((one) => placeOf(one) >= 0) ? { pair: paired.map(placeOf) } : { pair: [] }) : {}),
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
  // the sources' own sizes, to a decimetre: those in degrees come out odd
  const own = [
    ...new Set(
      chosen.map(({ holdings }) => Math.round((holdings[0]?.surface?.cell_size ?? frame.cell_size) * 10) / 10),
    ),
  ]
    .filter((cell) => cell > 0 && cell !== frame.cell_size)
    .sort((one, other) => one - other);
  const pictured = chosen.length > 1 && (
    <p key="pictures" className="times">
      <Button kind="link" aria-pressed={shown} onClick={() => setShown(!shown)}>
        {shown ? "Hide the pictures" : "Show each in the middle of the view"}
      </Button>
      {shown && pictures.waiting && <span className="mut">drawing…</span>}
      {shown && pictures.failed && <span className="err">{pictures.failed}</span>}
    </p>
  );
  return (
    <OperationSheet
      work={work}
      name={`Mosaic, ${says}`}
      foot={{ refused: failed }}
      findings={findings}
      onFix={(values) => {
        if (!(INSPECT in values)) return setParams(values);
        open("Gather", "arrivals");
        set({ inspected: values[INSPECT] as number });
      }}
      parts={[
        {
          title: "Surfaces",
          aside: `${chosen.length} of ${chosen.length + others.length} used`,
          of: [
            <Sources
              key="sources"
              chosen={chosen}
              others={others}
              overlaps={overlaps}
              levelled={levelling !== "none"}
              held={held}
              onChange={change}
            />,
            <RoleField key="area" work={work} input="area" none="the frame" />,
          ],
        },
        {
          title: "Where they overlap",
          of: [
            <Methods
              key="rule"
              work={work}
              name="rule"
              across={drawn ? 3 : 4}
              icon={(one) => (drawn ? <RulePicture picture={drawn.get(one)} /> : <RuleIcon rule={one} />)}
            />,
            pictured,
            "feather",
            "band",
            rule === "seam" && <GivenAreas key="given" names={names} given={given} onChange={giveAreas} />,
          ],
        },
        {
          title: "Levelling",
          aside: overlaps
            ? `over ${overlaps.pairs.length} ${overlaps.pairs.length === 1 ? "overlap" : "overlaps"}`
            : undefined,
          of: [
            "levelling",
            levelling !== "none" && (
              <Choice
                key="held"
                label={propertyOf(NAME, "held").title}
                value={String(held)}
                options={names.map((title, i) => ({ value: String(i), title }))}
                onChange={(next) => setParams({ held: Number(next) })}
              />
            ),
          ],
        },
        {
          title: "Result",
          of: [
            <Choice
              key="cells"
              label={propertyOf(NAME, "cell_size").title}
              value={String(params.cell_size ?? FRAMES)}
              options={[
                { value: FRAMES, title: `${size(frame.cell_size)} m, the frame's` },
                ...own.map((cell) => ({ value: String(cell), title: `${size(cell)} m, a source's own` })),
              ]}
              onChange={(cell) => setParams({ cell_size: cell === FRAMES ? null : Number(cell) })}
            />,
            <OutputChoice
              key="output"
              work={work}
              but={["difference"]}
              onChosen={(output) => output !== "difference" && setParams({ pair: null })}
            />,
            "name",
          ],
        },
      ]}
    />
  );
}
