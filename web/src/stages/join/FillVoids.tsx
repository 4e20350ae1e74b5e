import { num } from "../../desk/format";
import { MethodIcon } from "../../desk/icons";
import { Methods } from "../build/Methods";
import { HolesList } from "../gather/HolesList";
import { Beside, Choice, Findings, HoldingChoice, NameRow, NoSurface, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useChosenHeights } from "../useChosenHeights";
import { useWorksheet } from "../useWorksheet";

const METHODS: [string, string, string][] = [
  ["facets", "Facets", "Flat facets from rim to rim."],
  ["plate", "Plate", "A thin plate that goes on as the land around the hole bends."],
  ["distance", "Distance", "A mean of the rim, nearer cells weighing more; never above or below it."],
  ["other", "Other surface", "Another surface, lifted to the rim so that no step is left."],
];
const DRAWN: Record<string, string> = {
  facets: "triangulation",
  plate: "spline",
  distance: "inverse_distance",
  other: "kriging",
};
const COUNTED = [
  { value: "cells", title: "cells" },
  { value: "m", title: "metres" },
];
const RESULTS = [
  { value: "height", title: "heights" },
  { value: "filled", title: "which cells were filled too" },
];

/** Holes of a surface get heights: from their rim, or from another surface. */
export function FillVoids() {
  const work = useWorksheet("fill_voids", ["surface"]);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work, (one) => Boolean(one.holes?.count));
  const method = (params.method as string) ?? "facets";
  const counted = (params.across_in as string) ?? "cells";
  const name = work.sheet.name || (chosen ? `${chosen.name}, filled` : "");
  if (!usable.length) return <NoSurface stage="Join" title="Fill holes" />;
  return (
    <Sheet stage="Join" title="Fill holes" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="What goes in">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
        {chosen?.holes ? (
          chosen.holes.count ? (
            <HolesList key={chosen.id} holding={chosen} />
          ) : (
            <p className="hint">No hole is surrounded by data in {chosen.name}.</p>
          )
        ) : (
          chosen && <p className="hint">Holes are counted when a surface is stored.</p>
        )}
        {chosen?.holes && chosen.holes.outside > 0 && (
          <p className="hint">
            <span className="n">{num(chosen.holes.outside)}</span> empty cells reach the edge; they stay empty.
          </p>
        )}
      </Section>
      <Section title="From what">
        <Methods
          label="Filled from"
          across={2}
          methods={METHODS}
          value={method}
          icon={(one) => <MethodIcon method={DRAWN[one] ?? ""} />}
          onChange={(next) => setParams({ method: next })}
        />
        <p className="hint">{METHODS.find(([one]) => one === method)?.[2]}</p>
        {method === "other" && (
          <Beside
            label="Fill from"
            input="other"
            holdings={usable.filter((one) => one.id !== chosen?.id)}
            work={work}
            none="choose"
          />
        )}
        <div className="row two">
          <NumberField
            label="Holes up to"
            unit={counted === "cells" ? "cells" : "m"}
            value={(params.across as number) ?? 100}
            onChange={(across) => setParams({ across })}
          />
        </div>
        <Choice
          label="Counted in"
          value={counted}
          options={COUNTED}
          onChange={(across_in) => setParams({ across_in })}
        />
      </Section>
      <Section title="Result">
        <Choice
          label="Cells say"
          value={work.output ?? "height"}
          options={RESULTS}
          onChange={(next) => work.setOutput(next === "height" ? null : next)}
        />
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
