import { useEffect } from "react";
import { choicesOf, propertyOf } from "../../api/operations";
import { useHeld, useProject } from "../../desk/context";
import { capital, num, size } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Slide } from "../../ui/Slide";
import { isFor } from "../Field";
import { Where } from "../fit/Where";
import { OperationSheet } from "../OperationSheet";
import { useWorksheet } from "../useWorksheet";

const NAME = "grid_cloud";
const NOISE = ["7", "18"];
const GROUND = ["2", "8"];
const USUAL_GAP = 12; // metres
const WIDEST_GAP = propertyOf(NAME, "gap").maximum ?? 500; // slid along its root: narrow gaps are told apart

type Params = ReturnType<typeof useWorksheet<typeof NAME>>["params"];

/** What technicians make of a cloud most often, each a set of settings to start from. */
const WANTS: { title: string; classes: "ground" | "all"; params: Pick<Params, "returns" | "rule" | "gap"> }[] = [
  { title: "Bare earth", classes: "ground", params: { returns: "any", rule: "mean", gap: USUAL_GAP } },
  { title: "First surface", classes: "all", params: { returns: "first", rule: "highest", gap: 6 } },
  { title: "Spread", classes: "all", params: { returns: "any", rule: "deviation", gap: 0 } },
  { title: "Point count", classes: "all", params: { returns: "any", rule: "count", gap: 0 } },
  { title: "Intensity", classes: "all", params: { returns: "first", rule: "intensity", gap: 0 } },
];

/** Lidar to a surface: which points, what of them a cell says, which gaps are closed. */
export function GridCloud() {
  const project = useProject();
  const { clouds } = useHeld();
  const work = useWorksheet(NAME);
  const { params, given, setParams, setInput } = work;
  const ids = work.ids("clouds");
  const used = clouds.filter((one) => ids.includes(one.id));

  const counts: Record<string, number> = {};
  const names: Record<string, string> = {};
  for (const { cloud } of used) {
    for (const [code, count] of Object.entries(cloud?.classes ?? {})) counts[code] = (counts[code] ?? 0) + count;
    Object.assign(names, cloud?.class_names);
  }
  const codes = Object.keys(counts).sort((one, other) => Number(one) - Number(other));
  const classes = (params.classes ?? []).map(String);
  const points = classes.reduce((sum, code) => sum + (counts[code] ?? 0), 0);
  // one point in so many metres, of those that are kept
  const ground = used.reduce((sum, { cloud }) => sum + (cloud ? cloud.count * cloud.spacing ** 2 : 0), 0);
  const spacing = points > 0 ? Math.sqrt(ground / points) : 0;

  const of = (want: (typeof WANTS)[number]) =>
    (want.classes === "ground"
      ? codes.filter((code) => GROUND.includes(code))
      : codes.filter((code) => !NOISE.includes(code))
    ).map(Number);
  const wanted = WANTS.find(
    (want) =>
      want.params.returns === params.returns && want.params.rule === params.rule && of(want).join() === classes.join(),
  );
  const use = (code: string, on: boolean) =>
    setParams({
      classes: (on ? [...classes, code] : classes.filter((one) => one !== code))
        .map(Number)
        .sort((one, other) => one - other),
    });

  const untouched = work.sheet.inputs.clouds === undefined && clouds.length > 0;
  useEffect(() => {
    if (!untouched) return;
    // a cloud that another was made of would count twice
    const sources = new Set(clouds.flatMap((one) => one.recipe?.input_ids.cloud ?? []));
    setInput(
      "clouds",
      clouds.map((one) => one.id).filter((id) => !sources.has(id)),
    );
    if (given.gap === undefined) setParams({ gap: USUAL_GAP });
  }, [untouched, clouds, given.gap, setInput, setParams]);

  const rule = choicesOf(NAME, "rule").find((one) => one.value === params.rule)?.title ?? "";
  const title = wanted?.title ?? rule.replace(/^(the|a|their) /, "");
  const cell = params.cell_size ?? project.frame.cell_size;
  return (
    <OperationSheet
      work={work}
      name={`${capital(title)} ${size(cell)} m`}
      parts={[
        { title: "What goes in", aside: `${num(points)} points`, of: ["in:clouds"] },
        {
          title: "Beside the points",
          of: isFor(work, "gap") ? ["in:breaklines", "in:water"] : [],
        },
        {
          title: "Where",
          aside: params.bounds || work.ids("area").length ? undefined : "the frame",
          of: [<Where key="where" work={work} />],
        },
        {
          title: "What is wanted",
          of: [
            <div key="wants" className="wants">
              {WANTS.map((want) => (
                <Button
                  key={want.title}
                  aria-pressed={want === wanted}
                  onClick={() => setParams({ ...want.params, classes: of(want) })}
                >
                  {want.title}
                </Button>
              ))}
            </div>,
            <Checks key="classes" label="Classes to use">
              {codes.map((code) => (
                <Check
                  key={code}
                  label={names[code]}
                  title={`${num(counts[code] ?? 0)} points`}
                  checked={classes.includes(code)}
                  onChange={(on) => use(code, on)}
                />
              ))}
            </Checks>,
            "returns",
            "low",
            "high",
          ],
        },
        {
          title: "How",
          aside: spacing > 0 ? `one point in ${num(spacing, 2)} m` : undefined,
          of: [
            "rule",
            "percentile",
            "cell_size",
            spacing > 0 && (
              <p key="spacing" className="times">
                <span className="mut">spacing</span>
                {[1, 2, 3].map((times) => {
                  const fit = Math.max(Math.round(spacing * times * 4) / 4, 0.25);
                  return (
                    <Button key={times} kind="link" onClick={() => setParams({ cell_size: fit })}>
                      × {times}: <span className="n">{num(fit, 2)} m</span>
                    </Button>
                  );
                })}
              </p>
            ),
            isFor(work, "gap") && (
              <Slide
                key="gap"
                label="Close gaps"
                range={[0, Math.sqrt(WIDEST_GAP), 0.1]}
                value={Math.sqrt(params.gap)}
                shown={params.gap ? `${num(params.gap)} m` : "none"}
                onChange={(root) => setParams({ gap: Math.round(root ** 2) })}
              />
            ),
            "name",
          ],
        },
      ]}
    />
  );
}
