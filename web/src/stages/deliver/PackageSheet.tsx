import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Finding, type Holding, type Job } from "../../api/client";
import { KEYS } from "../../api/keys";
import { choicesOf } from "../../api/operations";
import { client, isOpen, useJobs } from "../../api/queries";
import { quantityOf, useHeld, useProject } from "../../desk/context";
import { num, percent, shortUnit } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { dressOf } from "../../map/ramps";
import { Button } from "../../ui/Button";
import { Check, Checks } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { Entry } from "../../ui/Entry";
import { NameRow } from "../../ui/NameRow";
import { NumberField } from "../../ui/NumberField";
import { Section, Sheet } from "../../ui/Sheet";
import { Findings } from "../Findings";

import { Built } from "./Built";
import { groupsOf } from "./contents";

interface Checked {
  findings: Finding[];
  members: { holding_id: number; file: string; step: number | null }[];
}
const SURFACES = [
  { value: "tif", title: "GeoTIFF, cloud-optimised" },
  { value: "asc", title: "ASCII grid" },
  { value: "xyz", title: "XYZ text" },
];
const CELLS = [{ value: "stored", title: "as they are stored" }, ...choicesOf("cell_type", "cell_type")];
const LOOKS = [
  { value: "desk", title: "as on the desk now" },
  { value: "usual", title: "each over its own heights" },
];
const EMPTY = [
  { value: "nan", title: "NaN" },
  { value: "number", title: "a number no height has" },
];
const LINES = [
  { value: "gpkg", title: "GeoPackage" },
  { value: "shp", title: "shapefile" },
  { value: "geojson", title: "GeoJSON" },
  { value: "kml", title: "KML" },
  { value: "dxf", title: "DXF drawing" },
];
const POINTS = [
  { value: "csv", title: "CSV table" },
  { value: "xlsx", title: "spreadsheet" },
];

/** One zip of chosen files with checksums, recipes and a report. */
export function PackageSheet() {
  const project = useProject();
  const { surfaces, features, points, all } = useHeld();
  const sheet = useDesk((desk) => desk.sheets.package) ?? { inputs: {}, params: {}, name: "" };
  const change = useDesk((desk) => desk.sheet);
  const { data: jobs = [] } = useJobs(project.id);
  const [job, setJob] = useState<string | null>(null);
  const others = all.filter((one) => one.kind !== "surface");
  const groups = groupsOf({ surfaces, others });
  const listed = new Map(groups.flatMap(({ holdings }) => holdings.map((one) => [one.id, one] as const)));
  const given = sheet.inputs.holdings;
  const chosen = (Array.isArray(given) ? given : []).filter((id) => listed.has(id));
  const choose = (ids: number[]) => change("package", { inputs: { ...sheet.inputs, holdings: ids } });
  const params = sheet.params as Record<string, string | number | boolean | undefined>;
  const setParam = (values: Record<string, unknown>) => change("package", { params: { ...sheet.params, ...values } });
  const surfacesAs = String(params.surfaces_as ?? "tif");
  const cellType = String(params.cell_type ?? "stored");
  const isWhole = cellType.includes("int");
  const withReport = params.report !== false;
  const looks = useDesk((desk) => desk.looks);
  const light = useDesk((desk) => desk.light);
  const looksOf = (held: Holding[]) =>
    Object.fromEntries(
      held
        .filter((one) => one.kind === "surface")
        .map(quantityOf)
        .map((quantity) => [quantity, dressOf(looks[quantity], light, quantity === "height")]),
    );
  const clouds = chosen.flatMap((id) => listed.get(id)?.cloud ?? []);
  const classNames = Object.assign({}, ...clouds.map((one) => one.class_names)) as Record<string, string>;
  const codes = Object.keys(classNames).sort((one, other) => Number(one) - Number(other));
  const leftOut = ((sheet.params.left_out as string[] | undefined) ?? []).filter((code) => codes.includes(code));
  const usual = `${project.name}, ${new Date().toISOString().slice(0, 10)}`;
  const name = sheet.name || usual;
  const body = {
    name,
    holdings: chosen,
    report: withReport,
    note: String(params.note ?? ""),
    wanted: {
      surfaces_as: surfacesAs,
      cell_type: surfacesAs === "tif" ? cellType : "stored",
      step: isWhole ? Number(params.step ?? 0) : 0,
      nan: params.empty !== "number",
      features_as: String(params.features_as ?? "gpkg"),
      points_as: String(params.points_as ?? "csv"),
      cut: surfacesAs === "tif" ? Number(params.cut ?? 0) : 0,
      pictures: params.pictures === true,
      classes: leftOut.length ? codes.filter((code) => !leftOut.includes(code)).map(Number) : null,
    },
    looks: params.looks === "usual" ? {} : looksOf(chosen.flatMap((id) => listed.get(id) ?? [])),
  };
  const canBuild = project.role !== "viewer";
  const { data: checked, error } = useQuery({
    queryKey: KEYS.package(project.id, { ...body, name: "", note: "" }, all.length),
    queryFn: ({ signal }) =>
      call<Checked>("POST", `/projects/${project.id}/packages/check`, { ...body, name: "check", note: "" }, signal),
    enabled: chosen.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const findings = chosen.length && checked ? checked.findings.map((one, i) => ({ ...one, code: `${i}` })) : [];
  const stopped = findings.some((one) => one.weight === "stop");
  const build = useMutation({
    mutationFn: () => call<Job>("POST", `/projects/${project.id}/packages`, body),
    onSuccess: (made) => setJob(made.id),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.jobs(project.id) }),
  });
  const running = jobs.find((one) => one.id === job) ?? build.data;
  const open = running ? isOpen(running) && job === running.id : false;
  const steps = (checked?.members ?? []).flatMap(({ step }) => (step === null ? [] : [step]));
  const kinds = new Set(chosen.map((id) => listed.get(id)?.kind));
  if (!groups.length)
    return (
      <Sheet stage="Deliver" title="Package">
        <p className="remark">Nothing is here yet that could be given away.</p>
      </Sheet>
    );
  return (
    <Sheet
      stage="Deliver"
      title="Package"
      lead="One zip with the files, a checksum of each, and the recipes that make them again."
      foot={
        canBuild ? (
          <>
            {(build.error || running?.state === "failed") && (
              <p className="said">
                <span className="err" role="alert">
                  {build.error?.message ?? running?.message}
                </span>
              </p>
            )}
            {running?.state === "done" && (
              <p className="said" role="status">
                <span>The package is built.</span>
                <a className="btn small" href={`/api/projects/${project.id}/packages/${running.id}/file`}>
                  Download
                </a>
              </p>
            )}
            <div className="est">
              <span>{open ? "Building" : "Makes"}</span>
              <b>
                {open ? (
                  <span className="n">{percent(running?.progress ?? 0)}</span>
                ) : (
                  <>
                    <span className="n">{num(chosen.length)}</span>{" "}
                    {body.wanted.cut || body.wanted.pictures
                      ? "holdings as several files"
                      : chosen.length === 1
                        ? "file"
                        : "files"}
                    {withReport ? " and a report" : ""}
                  </>
                )}
              </b>
            </div>
            <div className="go">
              <span />
              <Button
                kind="primary"
                disabled={!chosen.length || stopped || open || build.isPending}
                onClick={() => build.mutate()}
              >
                Build package
              </Button>
            </div>
          </>
        ) : (
          <p className="remark">Viewers take packages away; editors and owners build them.</p>
        )
      }
    >
      <Section title="What goes in" aside={`${chosen.length} of ${listed.size} chosen`}>
        {groups.map(({ title, holdings }) => {
          const picked = holdings.filter((one) => chosen.includes(one.id)).length;
          return (
            <details key={title} className="group" open={title === "Surfaces made here" || undefined}>
              <summary>
                {title}
                <span className="n">{picked ? `${picked} of ${holdings.length}` : holdings.length}</span>
              </summary>
              {holdings.map((one) => (
                <Check
                  key={one.id}
                  label={one.name}
                  checked={chosen.includes(one.id)}
                  onChange={(on) => choose(on ? [...chosen, one.id] : chosen.filter((id) => id !== one.id))}
                />
              ))}
            </details>
          );
        })}
      </Section>
      <Section title="Written as">
        <Choice
          label="Surfaces"
          value={surfacesAs}
          options={SURFACES}
          onChange={(value) => setParam({ surfaces_as: value })}
        />
        {surfacesAs === "tif" && (
          <>
            <Choice
              label="Cells"
              value={cellType}
              options={CELLS}
              onChange={(value) => setParam({ cell_type: value, step: 0 })}
            />
            {cellType === "float32" && (
              <Choice
                label="Empty is"
                value={String(params.empty ?? "nan")}
                options={EMPTY}
                onChange={(value) => setParam({ empty: value })}
              />
            )}
            {isWhole && (
              <NumberField
                label="Step"
                unit={shortUnit(project.frame.unit)}
                value={Number(params.step ?? 0) || null}
                placeholder={steps.length ? String(Math.max(...steps, 0.01)) : ""}
                onChange={(step) => setParam({ step: step ?? 0 })}
              />
            )}
          </>
        )}
        {surfacesAs === "tif" && (
          <NumberField
            label="Cut into"
            unit="cells a side"
            value={Number(params.cut ?? 0) || null}
            placeholder="whole"
            onChange={(cut) => setParam({ cut: cut ?? 0 })}
          />
        )}
        <Check
          label="Pictures too, PNG with world file"
          checked={params.pictures === true}
          onChange={(on) => setParam({ pictures: on })}
        />
        <Choice
          label="Maps look"
          value={String(params.looks ?? "desk")}
          options={LOOKS}
          onChange={(value) => setParam({ looks: value })}
        />
        {(features.length > 0 || kinds.has("features")) && (
          <Choice
            label="Lines"
            value={body.wanted.features_as}
            options={LINES}
            onChange={(value) => setParam({ features_as: value })}
          />
        )}
        {points.length > 0 && (
          <Choice
            label="Points"
            value={body.wanted.points_as}
            options={POINTS}
            onChange={(value) => setParam({ points_as: value })}
          />
        )}
        {codes.length > 1 && (
          <>
            <div className="row">
              <span className="lab">Clouds</span>
              <span>points of these classes</span>
            </div>
            <Checks label="Classes of points to keep">
              {codes.map((code) => (
                <Check
                  key={code}
                  label={classNames[code]}
                  checked={!leftOut.includes(code)}
                  onChange={(checked) =>
                    setParam({ left_out: checked ? leftOut.filter((one) => one !== code) : [...leftOut, code] })
                  }
                />
              ))}
            </Checks>
          </>
        )}
      </Section>
      <Section title="Report">
        <Check
          label="Maps, accuracy and steps, page and PDF"
          checked={withReport}
          onChange={(on) => setParam({ report: on })}
        />
        {withReport && (
          <Entry
            label="Note for the report"
            placeholder="A note for whoever reads it"
            maxLength={4000}
            lines={3}
            value={String(params.note ?? "")}
            onChange={(note) => setParam({ note })}
          />
        )}
        <NameRow value={sheet.name} usual={usual} onChange={(value) => change("package", { name: value })} />
      </Section>
      {error && (
        <p className="said">
          <span className="err" role="alert">
            {error.message}
          </span>
        </p>
      )}
      <Findings findings={findings} onFix={(values) => setParam({ step: values.step })} />
      <Built done={running?.state === "done" ? running.id : ""} />
    </Sheet>
  );
}
