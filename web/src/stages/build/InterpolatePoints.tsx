import { useEffect } from "react";
import { propertyOf } from "../../api/operations";
import { capital, num } from "../../desk/format";
import { Check, Checks } from "../../ui/Check";
import { Told } from "../../ui/Row";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { FacetsSwitch } from "./FacetsSwitch";
import { Kriging } from "./Kriging";
import { LeftOut } from "./LeftOut";
import { Methods } from "./Methods";
import { Smoothing } from "./Smoothing";

const NAME = "interpolate_points";
const USUAL_REACH = 60; // metres

/** Survey points to a surface: what goes in, how, findings, preview and run. */
export function InterpolatePoints() {
  const work = useWorksheet(NAME);
  const { params, given, setParams } = work;
  const { chosen } = useRole(work, "points");
  const untouched = chosen !== undefined && given.reach_limit === undefined;
  useEffect(() => {
    if (untouched) setParams({ reach_limit: USUAL_REACH });
  }, [untouched, setParams]);

  const { method } = params;
  const codes = Object.entries(chosen?.points?.codes ?? {}).filter(([code]) => code !== "");
  const used = params.codes ?? codes.map(([code]) => code);
  const use = (code: string, on: boolean) => {
    const next = on ? [...used, code] : used.filter((one) => one !== code);
    setParams({ codes: next.length === codes.length ? null : next });
  };
  const usedCount = codes.length
    ? codes.filter(([code]) => used.includes(code)).reduce((sum, [, count]) => sum + count, 0)
    : (chosen?.points?.count ?? 0);
  const called = propertyOf(NAME, "method").titles?.[method] ?? method;
  const name = chosen ? `${capital(called)} of ${chosen.name}` : "";
  const sectors = Number(params.sectors);

  return (
    <OperationSheet
      work={work}
      name={name}
      parts={[
        {
          title: "What goes in",
          aside: chosen?.points && (
            <>
              <span className="n">{num(usedCount)}</span> of <span className="n">{num(chosen.points.count)}</span>{" "}
              points
            </>
          ),
          of: [
            <RoleField
              key="points"
              work={work}
              input="points"
              onChosen={() => params.codes && setParams({ codes: null })}
            />,
            chosen?.points && (
              <Told key="heights" label="Heights">
                <span className="n">{chosen.points.height_field}</span>, in {chosen.points.unit}
              </Told>
            ),
            <LeftOut
              key="left out"
              points={chosen?.id}
              places={params.left_out}
              onChange={(left_out) => setParams({ left_out })}
            />,
            "in:breaklines",
            work.ids("breaklines").length > 0 && "breaklines_are",
            "in:lakes",
            <RoleField key="area" work={work} input="area" none="the frame" />,
            codes.length > 1 && (
              <Checks key="codes" label="Codes to use">
                {codes.map(([code, count]) => (
                  <Check
                    key={code}
                    label={code}
                    figure={num(count)}
                    checked={used.includes(code)}
                    onChange={(on) => use(code, on)}
                  />
                ))}
              </Checks>
            ),
          ],
        },
        {
          title: "How",
          of: [
            <Methods
              key="method"
              work={work}
              name="method"
              onChosen={() => work.output === "uncertainty" && work.setOutput(null)}
            />,
            "power",
            "neighbours",
            "search_radius",
            "sectors",
            method === "inverse_distance" && sectors > 1 && (
              <p key="each" className="hint">
                <span className="n">{Math.ceil(params.neighbours / sectors)}</span> of each sector, if it has so many.
              </p>
            ),
            "tension",
            "smoothing",
            method === "spline" && params.tension === 0 && (
              <p key="plate" className="hint">
                No tension: a thin plate, from all points at once.
              </p>
            ),
            method === "spline" && <Smoothing key="smoothings" work={work} points={chosen} />,
            method === "kriging" && <Kriging key="kriging" work={work} points={chosen} />,
            "reach_limit",
            "edge_limit",
            "duplicates",
            "cell_size",
            "output",
            "whole",
            method === "triangulation" && <FacetsSwitch key="facets" />,
            "name",
          ],
        },
      ]}
    />
  );
}
