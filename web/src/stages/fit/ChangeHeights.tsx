import { useHeld } from "../../desk/context";
import { HEIGHT_UNITS } from "../../desk/format";
import { Beside, Choice, Findings, HoldingChoice, NameRow, NoSurface, NumberField, Section, Sheet } from "../parts";
import { RunFoot } from "../RunFoot";
import { useChosenHeights } from "../useChosenHeights";
import { useWorksheet } from "../useWorksheet";

const SIGNS = [
  { value: "subtract", title: "subtracted (ellipsoid to sea level)" },
  { value: "add", title: "added (sea level to ellipsoid)" },
];

/** Heights to another unit or another zero level. */
export function ChangeHeights() {
  const { surfaces } = useHeld();
  const work = useWorksheet("change_heights", ["surface"]);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work);
  const declared = chosen?.surface?.unit ?? "m";
  const to = (params.to_unit as string) ?? "m";
  const geoid = Array.isArray(work.inputs.geoid) && work.inputs.geoid.length > 0;
  const offset = (params.offset as number) ?? 0;
  const says = geoid
    ? "other zero level"
    : (params.from_unit ?? declared) !== to
      ? `in ${HEIGHT_UNITS.find((one) => one.value === to)?.title}`
      : `${offset > 0 ? "+" : ""}${offset} ${to}`;
  const name = work.sheet.name || (chosen ? `${chosen.name}, ${says}` : "");
  if (!usable.length) return <NoSurface stage="Fit" title="Change heights" />;
  return (
    <Sheet stage="Fit" title="Change heights" foot={<RunFoot work={work} name={name} canBeLive />}>
      <Section title="What goes in">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
        <Choice
          label="Its heights"
          value={(params.from_unit as string) ?? declared}
          options={HEIGHT_UNITS.map((one) =>
            one.value === declared ? { ...one, title: `${one.title}, as declared` } : one,
          )}
          onChange={(unit) => setParams({ from_unit: unit === declared ? null : unit })}
        />
      </Section>
      <Section title="What they become">
        <Choice label="Unit" value={to} options={HEIGHT_UNITS} onChange={(to_unit) => setParams({ to_unit })} />
        <Beside label="Geoid" input="geoid" holdings={surfaces.filter((one) => one.id !== chosen?.id)} work={work} />
        {geoid && (
          <Choice
            label="It is"
            value={(params.geoid as string) ?? "subtract"}
            options={SIGNS}
            onChange={(sign) => setParams({ geoid: sign })}
          />
        )}
        <div className="row two">
          <NumberField
            label="Raised by"
            unit={to}
            value={offset}
            onChange={(next) => setParams({ offset: next ?? 0 })}
          />
        </div>
        <div className="row">
          <label htmlFor="zero-means">Zero means</label>
          <span className="field">
            <input
              id="zero-means"
              className="text"
              maxLength={120}
              value={(params.vertical_datum as string) ?? ""}
              placeholder={chosen?.surface?.vertical_datum || "not said"}
              onChange={(event) => setParams({ vertical_datum: event.target.value || null })}
            />
          </span>
        </div>
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
