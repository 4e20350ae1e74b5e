import { useMutation, useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { call } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useHeld, useProject } from "../../desk/context";
import { num, shortUnit } from "../../desk/format";
import { useDesk } from "../../desk/store";
import { Section, Sheet } from "../../ui/Sheet";
import { HoldingChoice } from "../HoldingChoice";

interface Figures {
  count: number;
  unused: number;
  mean: number;
  rmse: number;
  nmad: number;
  /** Not in figures that were made by an older version. */
  mae?: number;
  le68?: number;
  le90: number;
  le95: number;
}
/** Between which the true figures lie 95 of 100 times. */
interface Sure {
  intervals: Partial<Record<keyof Figures | "median", [number, number]>>;
  clustered: boolean;
  blocks: number;
}
interface Report {
  reason?: string;
  sure?: Sure | null;
  all?: Figures;
  by_code?: Record<string, Figures>;
}

/** Says how sure the figures are, from drawing the checkpoints again and again. */
function HowSure({ sure, unit }: { sure: Sure; unit: string }) {
  const shown = (["mean", "rmse", "nmad", "le95"] as const).flatMap((name) => {
    const interval = sure.intervals[name];
    return interval ? [{ name, interval }] : [];
  });
  return (
    <>
      {shown.length > 0 ? (
        <p className="mut small-print">
          With other checkpoints of this kind, 95 of 100 times{" "}
          {shown.map(({ name, interval: [low, high] }, i) => (
            <Fragment key={name}>
              {i > 0 && (i === shown.length - 1 ? " and " : ", ")}
              {{ mean: "the mean", rmse: "RMSE", nmad: "NMAD", le95: "the error of 95 %" }[name]} would be from{" "}
              <span className="n">{num(low, 2)}</span> to <span className="n">{num(high, 2)}</span> {unit}
            </Fragment>
          ))}
          .
        </p>
      ) : (
        <p className="find caution">
          <b>Caution.</b> The checkpoints stand in {sure.blocks === 1 ? "one place" : `${sure.blocks} places`} only, so
          that nothing says how sure these figures are.
        </p>
      )}
      {sure.clustered && shown.length > 0 && (
        <p className="find caution">
          <b>Caution.</b> The checkpoints stand in clusters, where errors are alike. They are drawn as{" "}
          <span className="n">{num(sure.blocks)}</span> blocks of ground, which makes these figures less sure.
        </p>
      )}
    </>
  );
}

/** Error figures of every surface at the project's checkpoints, and of A by land cover. */
export function AccuracySheet() {
  const project = useProject();
  const { surfaces, points, a } = useHeld();
  const slots = useDesk((desk) => desk.slots);
  const unit = shortUnit(project.frame.unit);
  const judged = surfaces.filter((one) => one.surface?.quantity === "height");
  const best = Math.min(...judged.map((one) => one.accuracy?.rmse ?? Number.POSITIVE_INFINITY));
  const choose = useMutation({
    mutationFn: (id: number) => call("PUT", `/projects/${project.id}/checkpoints`, { holding_id: id }),
    onSettled: () => {
      client.invalidateQueries({ queryKey: KEYS.projects() });
      client.invalidateQueries({ queryKey: KEYS.jobs(project.id) });
      client.invalidateQueries({ queryKey: KEYS.holdings(project.id) });
    },
  });
  const { data: report } = useQuery({
    queryKey: KEYS.accuracy(project.id, a?.id, project.checkpoints_id, a?.accuracy?.count),
    queryFn: () => call<Report>("GET", `/projects/${project.id}/holdings/${a?.id}/accuracy`),
    enabled: Boolean(a),
  });
  const rows = (figures: Figures) => (
    <>
      <td className="n">{num(figures.count)}</td>
      <td className="n">{num(figures.mean, 2)}</td>
      <td className="n">{num(figures.rmse, 2)}</td>
      <td className="n">{num(figures.nmad, 2)}</td>
    </>
  );
  const head = (first: string) => (
    <thead>
      <tr>
        <th>{first}</th>
        <th title="Checkpoints used">count</th>
        <th title="Mean error">mean</th>
        <th title="Root mean square error">RMSE</th>
        <th title="Normalised median absolute deviation: spread without the outliers">NMAD</th>
      </tr>
    </thead>
  );
  return (
    <Sheet
      stage="Judge"
      title="Accuracy at checkpoints"
      lead={`Surface minus checkpoint, in ${unit}, each surface read bilinearly.`}
    >
      <Section title="Checkpoints">
        {project.role === "viewer" ? (
          <span>{points.find((one) => one.id === project.checkpoints_id)?.name ?? "none chosen"}</span>
        ) : (
          <HoldingChoice
            label="Points"
            holdings={points}
            value={project.checkpoints_id ?? undefined}
            onChange={choose.mutate}
          />
        )}
        {choose.error && (
          <p className="fail" role="alert">
            {choose.error.message}
          </p>
        )}
        {!project.checkpoints_id && <p className="remark">Choose points that no surface was made from.</p>}
      </Section>
      {project.checkpoints_id && (
        <Section title="Every surface">
          <table className="t tight" aria-label="Accuracy of every surface">
            {head("surface")}
            <tbody>
              {judged.map((one) => (
                <tr key={one.id} className={one.accuracy?.rmse === best ? "best" : ""}>
                  <td title={one.name} className="cut">
                    {slots.a === one.key && <span className="chipa">A</span>}
                    {slots.b === one.key && <span className="chipb">B</span>}
                    {one.name}
                  </td>
                  {one.accuracy?.rmse != null ? (
                    rows(one.accuracy as Figures)
                  ) : (
                    <td colSpan={4} className="mut" title={one.accuracy?.reason}>
                      not judged
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </Section>
      )}
      {a && report?.all && (
        <Section title={`${a.name} in A`}>
          <table className="t tight" aria-label="Accuracy of A by code">
            {head("cover")}
            <tbody>
              {Object.entries(report.by_code ?? {}).map(([code, figures]) => (
                <tr key={code}>
                  <td>{code}</td>
                  {rows(figures)}
                </tr>
              ))}
              <tr className="best">
                <td>all</td>
                {rows(report.all)}
              </tr>
            </tbody>
          </table>
          <p className="mut small-print">
            {report.all.mae !== undefined && report.all.le68 !== undefined && (
              <>
                The mean size of errors (MAE) is <span className="n">{num(report.all.mae, 2)}</span> {unit}; 68.3 % of
                them stay within <span className="n">{num(report.all.le68, 2)}</span> {unit}.{" "}
              </>
            )}
            90 % of errors stay within <span className="n">{num(report.all.le90, 2)}</span> {unit}, 95 % within{" "}
            <span className="n">{num(report.all.le95, 2)}</span> {unit}.{" "}
            <span className="n">{num(report.all.unused)}</span> checkpoints lie where this surface is empty.
          </p>
          {report.sure && <HowSure sure={report.sure} unit={unit} />}
        </Section>
      )}
      {a && report?.reason && <p className="remark">{report.reason}</p>}
    </Sheet>
  );
}
