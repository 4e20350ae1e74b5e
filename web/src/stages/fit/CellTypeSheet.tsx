import { Choice, Findings, HoldingChoice, NameRow, NoSurface, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useChosenHeights } from "../useChosenHeights";
import { useWorksheet } from "../useWorksheet";

export const CELL_TYPES = [
  { value: "float32", title: "decimals of 32 bits" },
  { value: "int32", title: "whole numbers of 32 bits" },
  { value: "int16", title: "whole numbers of 16 bits" },
  { value: "uint16", title: "16 bits, none below 0" },
];
const USUAL_EMPTY: Record<string, string> = {
  float32: "NaN",
  int32: "−2147483648",
  int16: "−32768",
  uint16: "65535",
};

/** What the cells of a surface are written as when it is stored. */
export function CellTypeSheet() {
  const work = useWorksheet("cell_type", ["surface"]);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work);
  const unit = chosen?.surface?.unit ?? "m";
  const type = (params.cell_type as string) ?? "int16";
  const step = (params.step as number) ?? 0.1;
  const isWhole = type !== "float32";
  const says = isWhole ? `${type} of ${step} ${unit}` : "decimals";
  const name = work.sheet.name || (chosen ? `${chosen.name}, ${says}` : "");
  if (!usable.length) return <NoSurface stage="Fit" title="Set cell type" />;
  return (
    <Sheet stage="Fit" title="Set cell type" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="What goes in">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
      </Section>
      <Section title="What its cells become">
        <Choice
          label="Cells"
          value={type}
          options={CELL_TYPES}
          onChange={(cell_type) => setParams({ cell_type, nodata: null })}
        />
        <div className="row two">
          {isWhole && (
            <NumberField
              label="Step"
              unit={unit}
              value={step}
              onChange={(next) => setParams({ step: next && next > 0 ? next : null })}
            />
          )}
          <NumberField
            label="Empty is"
            value={params.nodata as number | null}
            placeholder={USUAL_EMPTY[type]}
            onChange={(nodata) => setParams({ nodata })}
          />
        </div>
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
