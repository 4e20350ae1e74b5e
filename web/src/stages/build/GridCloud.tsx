import { useEffect } from "react";
import { useHeld, useProject } from "../../desk/context";
import { num, size } from "../../desk/format";
import { Beside, Choice, Findings, has, NameRow, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useWorksheet } from "../useWorksheet";

const NOISE = ["7", "18"];
const GROUND = ["2", "8"];

const RULES = [
  { value: "lowest", title: "the lowest" },
  { value: "mean", title: "the mean" },
  { value: "highest", title: "the highest" },
  { value: "median", title: "the median" },
  { value: "percentile", title: "a percentile" },
  { value: "deviation", title: "their spread" },
  { value: "count", title: "how many there are" },
  { value: "intensity", title: "their mean intensity" },
  { value: "facets", title: "the facets between them" },
];
const RETURNS = [
  { value: "any", title: "every return" },
  { value: "first", title: "first of each pulse" },
  { value: "last", title: "last of each pulse" },
  { value: "single", title: "only of its pulse" },
];

/** What technicians make of a cloud most often, each a set of settings to start from. */
const WANTS: { title: string; classes: "ground" | "all"; params: Record<string, unknown> }[] = [
  { title: "Bare earth", classes: "ground", params: { returns: "any", rule: "mean", gap: 12 } },
  { title: "First surface", classes: "all", params: { returns: "first", rule: "highest", gap: 6 } },
  { title: "Spread", classes: "all", params: { returns: "any", rule: "deviation", gap: 0 } },
  { title: "Point count", classes: "all", params: { returns: "any", rule: "count", gap: 0 } },
  { title: "Intensity", classes: "all", params: { returns: "first", rule: "intensity", gap: 0 } },
];

/** Lidar to a surface: which points, what of them a cell says, which gaps are closed. */
export function GridCloud() {
  const project = useProject();
  const { clouds, features } = useHeld();
  const areas = features.filter((one) => has(one, "polygons"));
  const work = useWorksheet("grid_cloud", ["clouds"]);
  const { params, setParams, setInput } = work;
  const given = work.inputs.clouds;
  const ids = Array.isArray(given) ? given : [];
  const used = clouds.filter((one) => ids.includes(one.id));

  const counts: Record<string, number> = {};
  const names: Record<string, string> = {};
  for (const { cloud } of used) {
    for (const [code, count] of Object.entries(cloud?.classes ?? {})) counts[code] = (counts[code] ?? 0) + count;
    Object.assign(names, cloud?.class_names);
  }
  const codes = Object.keys(counts).sort((one, other) => Number(one) - Number(other));
  const classes = ((params.classes as number[] | undefined) ?? [2]).map(String);
  const points = classes.reduce((sum, code) => sum + (counts[code] ?? 0), 0);
  // one point in so many metres, of those that are kept
  const ground = used.reduce((sum, { cloud }) => sum + (cloud ? cloud.count * cloud.spacing ** 2 : 0), 0);
  const spacing = points > 0 ? Math.sqrt(ground / points) : 0;
  const rule = (params.rule as string) ?? "mean";
  const heights = !["count", "deviation", "intensity"].includes(rule);

  const of = (want: (typeof WANTS)[number]) =>
    (want.classes === "ground"
      ? codes.filter((code) => GROUND.includes(code))
      : codes.filter((code) => !NOISE.includes(code))
    ).map(Number);
  const matches = (want: (typeof WANTS)[number]) =>
    Object.entries(want.params).every(
      ([name, value]) => name === "gap" || (params[name] ?? { returns: "any", rule: "mean" }[name]) === value,
    ) && of(want).join() === classes.join();
  const wanted = WANTS.find(matches);

  useEffect(() => {
    if (given !== undefined || !clouds.length) return;
    // a cloud that another was made of would count twice
    const sources = new Set(clouds.flatMap((one) => one.recipe?.input_ids.cloud ?? []));
    setInput(
      "clouds",
      clouds.map((one) => one.id).filter((id) => !sources.has(id)),
    );
    if (params.gap === undefined) setParams({ gap: 12 });
  }, [given, clouds, params.gap, setInput, setParams]);

  const title = wanted?.title ?? RULES.find((one) => one.value === rule)?.title.replace(/^(the|a|their) /, "") ?? rule;
  const cell = (params.cell_size as number | null) ?? project.frame.cell_size;
  const name = work.sheet.name || `${title.charAt(0).toUpperCase()}${title.slice(1)} ${size(cell)} m`;
  if (!clouds.length)
    return (
      <Sheet stage="Build" title="Grid a point cloud">
        <p className="remark">No point cloud yet. Add LAS or LAZ files in Gather.</p>
      </Sheet>
    );
  return (
    <Sheet stage="Build" title="Grid a point cloud" foot={<RunFoot work={work} name={name} />}>
      <Section title="What goes in" aside={`${num(points)} points`}>
        <div className="checks wide" role="group" aria-label="Clouds to use" style={{ gridTemplateColumns: "1fr" }}>
          {clouds.map((one) => (
            <label className="ck one" key={one.id}>
              <input
                type="checkbox"
                checked={ids.includes(one.id)}
                onChange={() =>
                  setInput("clouds", ids.includes(one.id) ? ids.filter((id) => id !== one.id) : [...ids, one.id])
                }
              />
              {one.name}
              <span className="n">{num(one.cloud?.count ?? 0)}</span>
            </label>
          ))}
        </div>
      </Section>
      {features.length > 0 && heights && (
        <Section title="Beside the points">
          <Beside
            label="Breaklines"
            input="breaklines"
            holdings={features.filter((one) => has(one, "lines"))}
            work={work}
          />
          <Beside label="Water" input="water" holdings={areas} work={work} />
          <Beside label="Area" input="area" holdings={areas} work={work} none="the frame" />
        </Section>
      )}
      <Section title="What is wanted">
        <div className="wants">
          {WANTS.map((want) => (
            <button
              key={want.title}
              type="button"
              className="btn"
              aria-pressed={want === wanted}
              onClick={() => setParams({ ...want.params, classes: of(want) })}
            >
              {want.title}
            </button>
          ))}
        </div>
        <div className="checks wide" role="group" aria-label="Classes to use">
          {codes.map((code) => (
            <label className="ck" key={code} title={`${num(counts[code] ?? 0)} points`}>
              <input
                type="checkbox"
                checked={classes.includes(code)}
                onChange={() =>
                  setParams({
                    classes: (classes.includes(code) ? classes.filter((one) => one !== code) : [...classes, code])
                      .map(Number)
                      .sort((one, other) => one - other),
                  })
                }
              />
              {names[code]}
            </label>
          ))}
        </div>
        <Choice
          label="Returns"
          value={(params.returns as string) ?? "any"}
          options={RETURNS}
          onChange={(returns) => setParams({ returns })}
        />
        <div className="row two">
          <NumberField
            label="Above"
            unit="m"
            placeholder="any"
            value={params.low as number | null}
            onChange={(low) => setParams({ low })}
          />
          <NumberField
            label="Below"
            unit="m"
            placeholder="any"
            value={params.high as number | null}
            onChange={(high) => setParams({ high })}
          />
        </div>
      </Section>
      <Section title="How" aside={spacing > 0 ? `one point in ${num(spacing, 2)} m` : undefined}>
        <Choice label="A cell says" value={rule} options={RULES} onChange={(next) => setParams({ rule: next })} />
        {rule === "percentile" && (
          <div className="row two">
            <NumberField
              label="Percentile"
              unit="%"
              value={(params.percentile as number) ?? 95}
              onChange={(percentile) => setParams({ percentile })}
            />
          </div>
        )}
        <div className="row two">
          <NumberField
            label="Cell size"
            unit="m"
            placeholder={`${size(project.frame.cell_size)}, the frame's`}
            value={params.cell_size as number | null}
            onChange={(cell_size) => setParams({ cell_size })}
          />
        </div>
        {spacing > 0 && (
          <p className="times">
            <span className="mut">spacing</span>
            {[1, 2, 3].map((times) => {
              const fit = Math.max(Math.round(spacing * times * 4) / 4, 0.25);
              return (
                <button key={times} type="button" className="lnk" onClick={() => setParams({ cell_size: fit })}>
                  × {times}: <span className="n">{num(fit, 2)} m</span>
                </button>
              );
            })}
          </p>
        )}
        {heights && (
          <div className="row two">
            <NumberField
              label="Close gaps"
              unit="m"
              placeholder="none"
              value={params.gap as number | null}
              onChange={(gap) => setParams({ gap: gap ?? 0 })}
            />
          </div>
        )}
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
