import { useMutation } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { call } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { WeightIcon } from "../../desk/icons";
import { type OwnTab, useOwnTab } from "../../desk/ownTab";
import { useDesk } from "../../desk/store";
import { BriefMet } from "../../judge/BriefMet";
import { PressedOnMap } from "../../judge/PartFoot";
import { useJudgeState } from "../../judge/state";
import { useMoveAway } from "../../judge/useMoveAway";
import { useScorecard } from "../../judge/useScorecard";
import { WorstTab } from "../../judge/WorstTab";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { Refusal } from "../../ui/Refusal";
import { Row } from "../../ui/Row";
import { Segments } from "../../ui/Segments";
import { Section } from "../../ui/Sheet";
import { HoldingChoice } from "../HoldingChoice";
import { OperationSheet } from "../OperationSheet";
import { has } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const SPLITS = [
  { value: "none", title: "nothing" },
  { value: "cover", title: "land cover" },
  { value: "slope", title: "slope" },
  { value: "aspect", title: "aspect" },
  { value: "height", title: "height" },
  { value: "distance", title: "distance to data" },
  { value: "polygon", title: "polygons" },
] as const;
type By = (typeof SPLITS)[number]["value"];

const WORST: OwnTab = {
  title: "Worst places",
  hint: "Most volume between A and B first. Causes are suspected, not proved.",
  Body: WorstTab,
};

/** Surfaces are chosen in the strip: it stays where it is until there are two. */
const bothChosen = () => {
  const { a, b } = useDesk.getState().slots;
  return a !== null && b !== null;
};

/** What is judged, against what, and how; the scorecard itself stands in the middle of the desk. */
export function ScorecardSheet() {
  const project = useProject();
  const { surfaces, points, features } = useHeld();
  const { asked, card } = useScorecard();
  // a run takes what the card shows: all surfaces and the project's checkpoints where nobody has chosen others
  const elsewhere = useMemo(
    () => ({
      params: asked ? { split: asked.split, second: asked.second, shared: asked.shared } : {},
      inputs: {
        surfaces: asked?.surfaces ?? [],
        checkpoints: asked?.points ?? [],
        reference: asked?.reference ?? [],
      },
      ready: asked !== null,
    }),
    [asked],
  );
  const work = useWorksheet("scorecard", elsewhere);
  const { params, setParams, setInput } = work;
  const set = useDesk((desk) => desk.set);
  const bench = useDesk((desk) => desk.bench);
  const { removed, onto, byArea, set: judge } = useJudgeState();
  const [choosing, setChoosing] = useState(false);
  const away = useMoveAway();
  const split = asked?.split ?? (params.split as By);
  const second = (params.second as By | undefined) ?? "none";
  const judged = surfaces.filter((one) => one.surface.quantity === "height");
  const [reference] = work.ids("reference");
  const areas = features.filter((one) => has(one, "polygons"));
  const [polygons] = work.ids("polygons");
  const columns = Object.keys(areas.find((one) => one.id === polygons)?.features.attributes ?? {});
  const bySurface = reference !== undefined;
  const usesPolygons = split === "polygon" || second === "polygon" || byArea;
  const usesData = split === "distance" || second === "distance";

  useOwnTab(WORST, bothChosen);

  // the scorecard stands in the middle for as long as its worksheet is open
  useEffect(() => {
    set({ bench: "scorecard" });
    return () => useDesk.setState(({ bench }) => (bench === "scorecard" ? { bench: "map" } : {}));
  }, [set]);

  const choose = useMutation({
    mutationFn: (id: number) => call("PUT", `/projects/${project.id}/checkpoints`, { holding_id: id }),
    onSettled: () => {
      client.invalidateQueries({ queryKey: KEYS.projects() });
      client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
    },
  });
  const points_id = work.ids("checkpoints")[0] ?? project.checkpoints_id ?? undefined;
  const chosen = work.ids("surfaces");
  const withheld = card?.rows.every((row) => row.left_out === 0);
  return (
    <OperationSheet
      work={work}
      name="Scorecard"
      foot={{
        action: "Keep as a table",
        makes: ["Scorecard", card?.rows.length === 1 ? "1 surface" : `${num(card?.rows.length ?? 0)} surfaces`],
      }}
      parts={[
        {
          title: "What is judged",
          of: [
            <Row key="surfaces" label="Judged">
              <Button kind="small" aria-expanded={choosing} onClick={() => setChoosing(!choosing)}>
                {num(chosen.length)} of {num(judged.length)} surfaces
              </Button>
            </Row>,
            choosing ? (
              <Checks key="chosen" label="Surfaces" across={1}>
                {judged.map((one) => (
                  <Check
                    key={one.id}
                    label={one.name}
                    checked={chosen.includes(one.id)}
                    onChange={(on) =>
                      setInput("surfaces", on ? [...chosen, one.id] : chosen.filter((id) => id !== one.id))
                    }
                  />
                ))}
              </Checks>
            ) : null,
            <Row key="against" label="Against">
              <Segments
                label="Against"
                value={bySurface ? "surface" : "points"}
                options={[
                  { value: "points", title: "checkpoints" },
                  { value: "surface", title: "a surface" },
                ]}
                onChange={(one) => {
                  const best = [...judged].sort(
                    (x, y) =>
                      (x.accuracy?.rmse ?? Number.POSITIVE_INFINITY) - (y.accuracy?.rmse ?? Number.POSITIVE_INFINITY),
                  )[0];
                  setInput("reference", one === "surface" && best ? best.id : []);
                  setInput("checkpoints", one === "points" && points_id !== undefined ? points_id : []);
                }}
              />
            </Row>,
            bySurface ? (
              <HoldingChoice
                key="reference"
                label="Surface"
                holdings={judged}
                value={reference}
                onChange={(id) => setInput("reference", id)}
              />
            ) : (
              <HoldingChoice
                key="points"
                label="Points"
                holdings={points}
                value={points_id}
                onChange={(id) => {
                  setInput("checkpoints", id);
                  if (project.role !== "viewer") choose.mutate(id);
                }}
              />
            ),
            card && !bySurface ? (
              <p key="withheld" className="mut small-print">
                {withheld ? "Withheld from every surface." : "Points that went into a surface are left out of its row."}
              </p>
            ) : null,
            choose.error ? <Refusal key="refused" sentence={choose.error.message} /> : null,
          ],
        },
        {
          title: "How",
          of: [
            <Choice
              key="split"
              label="Split by"
              value={split}
              options={[...SPLITS]}
              onChange={(by) => setParams({ split: by as By })}
            />,
            split !== "none" ? (
              <Choice
                key="second"
                label="And by"
                value={second}
                options={SPLITS.filter((one) => one.value !== split)}
                onChange={(by) => setParams({ second: by as By })}
              />
            ) : null,
            usesPolygons ? (
              <HoldingChoice
                key="polygons"
                label="Polygons"
                holdings={areas}
                value={polygons}
                onChange={(id) => setInput("polygons", [id])}
              />
            ) : null,
            usesPolygons && columns.length ? (
              <Choice
                key="column"
                label="Column"
                value={(params.column as string) ?? ""}
                options={columns.map((one) => ({ value: one, title: one }))}
                onChange={(one) => setParams({ column: one })}
              />
            ) : null,
            usesData ? (
              <HoldingChoice
                key="data"
                label="Distance to"
                holdings={points.filter((one) => one.id !== points_id)}
                value={work.ids("data")[0]}
                onChange={(id) => setInput("data", [id])}
              />
            ) : null,
            <Row key="heights" label="Heights">
              <Segments
                label="Heights"
                value={removed ? "removed" : "delivered"}
                options={[
                  { value: "delivered", title: "as delivered" },
                  {
                    value: "removed",
                    title: "shift removed",
                    hint: "Each surface is put where the best of them lies, beside and above, and judged again",
                  },
                ]}
                onChange={(one) => judge({ removed: one === "removed" })}
              />
            </Row>,
            removed && !bySurface ? (
              <HoldingChoice
                key="onto"
                label="Put right against"
                holdings={judged}
                value={onto ?? card?.onto ?? undefined}
                onChange={(id) => judge({ onto: id })}
              />
            ) : null,
            split !== "none" && areas.length ? (
              <Check
                key="area"
                label="Weigh classes by their area"
                checked={byArea}
                onChange={(on) => judge({ byArea: on })}
              />
            ) : null,
            bench === "map" ? (
              <Button key="bench" kind="link" onClick={() => set({ bench: "scorecard" })}>
                Back to the scorecard
              </Button>
            ) : null,
          ],
        },
      ]}
      after={
        <>
          <PressedOnMap />
          {card && card.findings.length > 0 && (
            <Section title="What the errors say">
              {card.findings.map((one) => (
                <div key={`${one.cause}${one.surface}`} className={`find ${one.finding.weight}`}>
                  <WeightIcon weight={one.finding.weight} />
                  <b>{one.finding.weight === "note" ? "Note." : "Caution."}</b> {one.finding.sentence} {one.finding.why}
                  <div className="acts">
                    {one.cause === "share" && areas.length > 0 && !byArea && (
                      <Button kind="link" onClick={() => judge({ byArea: true })}>
                        Weigh by area
                      </Button>
                    )}
                    {one.cause === "offset" && one.surface !== null && work.canRun && (
                      <Button kind="link" onClick={() => away(one.surface ?? 0, { up: one.values.up as number })}>
                        {(one.values.up as number) > 0 ? "Lower it" : "Raise it"}
                      </Button>
                    )}
                    {one.cause === "shift" && !removed && (
                      <Button kind="link" onClick={() => judge({ removed: true, unfolded: one.surface })}>
                        Remove the shift
                      </Button>
                    )}
                  </div>
                </div>
              ))}
            </Section>
          )}
          <BriefMet />
        </>
      }
    />
  );
}
