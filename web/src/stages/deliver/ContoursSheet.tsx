import { useEffect } from "react";
import { isOpen, useJobs } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { HEIGHT_UNITS, num, percent, shortUnit } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { useContoursInView } from "../../map/useContours";
import {
  Beside,
  Choice,
  Findings,
  HoldingChoice,
  has,
  NameRow,
  NoSurface,
  NumberField,
  NumbersField,
  Section,
  Sheet,
} from "../parts";
import { PreviewSwitch } from "../RunFoot";
import { useChosenHeights } from "../useChosenHeights";
import { useWorksheet } from "../useWorksheet";

const HEIGHTS = [
  { value: "every", title: "every interval" },
  { value: "listed", title: "heights of my own" },
];

/** Contours of a surface: drawn in the view while they are chosen, kept as lines when they count. */
export function ContoursSheet() {
  const project = useProject();
  const { features } = useHeld();
  const { data: jobs = [] } = useJobs(project.id);
  const set = useDesk((desk) => desk.set);
  const previewOn = useDesk((desk) => desk.previewOn);
  const work = useWorksheet("contours", ["surface"]);
  const { params, setParams, setInput } = work;
  const { usable, chosen } = useChosenHeights(work);
  const areas = features.filter((one) => has(one, "polygons"));
  const unit = (params.unit as string) ?? "m";
  const asked = params.unit;
  useEffect(() => {
    if (asked === undefined && project.frame.unit !== "m") setParams({ unit: project.frame.unit });
  }, [asked, project.frame.unit, setParams]);
  const interval = (params.interval as number) ?? 20;
  const listed = (params.levels as number[] | null | undefined) ?? null;
  const every = (params.index_every as number) ?? 5;
  const stopped = work.preview?.findings.some((one) => one.weight === "stop") || work.refused !== null;
  const seen = useContoursInView(project.id, previewOn && !stopped && !work.waiting ? work.body : null);
  const { lines } = seen;
  useEffect(() => {
    set({ contours: lines && previewOn ? { lines, unit: shortUnit(unit) } : null });
  }, [lines, previewOn, unit, set]);
  useEffect(() => () => set({ contours: null }), [set]);

  const name =
    work.sheet.name ||
    (chosen ? `${chosen.name}, ${listed ? "chosen" : `${num(interval)} ${shortUnit(unit)}`} contours` : "");
  const job = jobs.find((one) => one.id === work.made?.job?.id);
  const made = features.find((one) => one.id === (job?.holding_id ?? work.made?.holding_id));
  const running = job ? isOpen(job) : false;
  const number = (label: string, key: string, of: string, usual: number) => (
    <NumberField
      label={label}
      unit={of}
      value={(params[key] as number | undefined) ?? usual}
      onChange={(value) => setParams({ [key]: value })}
    />
  );
  if (!usable.length) return <NoSurface stage="Deliver" title="Contours" />;
  return (
    <Sheet
      stage="Deliver"
      title="Contours"
      foot={
        work.canRun ? (
          <>
            {(work.refused || work.failed || seen.failed || job?.state === "failed") && (
              <p className="said">
                <span className="err" role="alert">
                  {work.refused ?? work.failed ?? seen.failed ?? job?.message}
                </span>
              </p>
            )}
            {made && (
              <p className="said" role="status">
                <span>
                  <b style={{ fontWeight: 600 }}>{made.name}</b>:{" "}
                  <span className="n">{num(made.features?.counts.lines)}</span> lines.
                </span>
                <button type="button" className="btn small" onClick={() => set({ tab: "lines", dressing: made.id })}>
                  Dress them
                </button>
              </p>
            )}
            <div className="est">
              <span>{running ? "Running" : "In this view"}</span>
              <b className="n">{running ? percent(job?.progress ?? 0) : lines ? `${num(lines.length)} lines` : "–"}</b>
            </div>
            <div className="go">
              <PreviewSwitch />
              <button
                type="button"
                className="primary"
                disabled={!work.complete || stopped || running || work.starting}
                onClick={() => work.run(name).catch(() => undefined)}
              >
                Run
              </button>
            </div>
          </>
        ) : (
          <p className="remark">Viewers look; only editors and owners make contours.</p>
        )
      }
    >
      <Section title="Of what">
        <HoldingChoice
          label="Surface"
          holdings={usable}
          value={chosen?.id}
          onChange={(id) => setInput("surface", id)}
        />
        {areas.length > 0 && <Beside label="Area" input="area" holdings={areas} work={work} none="all of it" />}
      </Section>
      <Section title="Heights">
        <Choice
          label="Lines at"
          value={listed ? "listed" : "every"}
          options={HEIGHTS}
          onChange={(how) => setParams({ levels: how === "listed" ? [interval] : null })}
        />
        {listed ? (
          <div className="row two">
            <NumbersField
              label="Heights"
              unit={shortUnit(unit)}
              value={listed}
              onChange={(levels) => setParams({ levels })}
            />
          </div>
        ) : (
          <div className="row two">{number("Every", "interval", shortUnit(unit), 20)}</div>
        )}
        <Choice label="In" value={unit} options={HEIGHT_UNITS} onChange={(value) => setParams({ unit: value })} />
        {!listed && (
          <>
            <div className="row two">{number("Base height", "base_height", shortUnit(unit), 0)}</div>
            <div className="row two">{number("Index line", "index_every", "lines", 5)}</div>
          </>
        )}
        <p className="hint">
          {listed
            ? "Each line is heavier and bears its height."
            : every > 0
              ? `Every ${num(every * interval)} ${shortUnit(unit)} a line is heavier and bears its height.`
              : "No line is heavier than another."}
        </p>
      </Section>
      <Section title="Lines">
        <div className="row two">{number("Smooth over", "smoothing", "m", 0)}</div>
        <div className="row two">{number("Minimum length", "minimum_length", "m", 0)}</div>
        <NameRow value={work.sheet.name} usual={name} onChange={work.setName} />
      </Section>
      <Findings findings={work.findings} onFix={setParams} />
    </Sheet>
  );
}
