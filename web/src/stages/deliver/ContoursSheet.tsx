import { Fragment, useEffect, useMemo } from "react";
import { propertyOf } from "../../api/operations";
import { useProject } from "../../desk/context";
import { num, shortUnit } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { useContoursInView } from "../../map/useContoursInView";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const NAME = "contours";
const HEIGHTS = [
  { value: "every", title: "every interval" },
  { value: "listed", title: "heights of my own" },
];

/** Contours of a surface: drawn in the view while they are chosen, kept as lines when they count. */
export function ContoursSheet() {
  const project = useProject();
  const set = useDesk((desk) => desk.set);
  const previewOn = useDesk((desk) => desk.previewOn);
  const work = useWorksheet(NAME);
  const { params, given, setParams } = work;
  const { chosen } = useRole(work, "surface");
  const framed = project.frame.unit as typeof params.unit;
  const untouched = given.unit === undefined && framed !== params.unit;
  useEffect(() => {
    if (untouched) setParams({ unit: framed });
  }, [untouched, framed, setParams]);
  const { interval, levels, index_every: every } = params;
  const unit = shortUnit(params.unit);
  const stopped = work.preview?.findings.some((one) => one.weight === "stop") || work.refused !== null;
  const seen = useContoursInView(project.id, previewOn && !stopped && !work.waiting ? work.body : null);
  const { lines } = seen;
  useOverlay(
    "contours",
    useMemo(() => (lines && previewOn ? { lines, unit } : null), [lines, previewOn, unit]),
  );
  const number = (name: "interval" | "base_height", of: string) => (
    <Fragment key={name}>
      <Field work={work} name={name} unit={of} />
    </Fragment>
  );
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, ${levels ? "chosen" : `${num(interval)} ${unit}`} contours` : ""}
      foot={{
        refused: seen.failed,
        makes: [
          "In this view",
          <span key="lines" className="n">
            {lines ? `${num(lines.length)} lines` : "–"}
          </span>,
        ],
        made: (holding) => (
          <p className="said" role="status">
            <span>
              <b>{holding.name}</b>: <span className="n">{num(holding.features?.counts.lines)}</span> lines.
            </span>
            <Button kind="small" onClick={() => set({ tab: "lines", dressing: holding.id })}>
              Dress them
            </Button>
          </p>
        ),
      }}
      parts={[
        { title: "Of what", of: ["in:surface", <RoleField key="area" work={work} input="area" none="all of it" />] },
        {
          title: "Heights",
          of: [
            <Choice
              key="how"
              label="Lines at"
              value={levels ? "listed" : "every"}
              options={HEIGHTS}
              onChange={(how) => setParams({ levels: how === "listed" ? [interval] : null })}
            />,
            levels ? (
              <Fragment key="levels">
                <Field work={work} name="levels" unit={unit} />
              </Fragment>
            ) : (
              number("interval", unit)
            ),
            "unit",
            !levels && number("base_height", unit),
            !levels && (
              <Fragment key="index">
                <Field work={work} name="index_every" unit="lines" />
              </Fragment>
            ),
            <p key="hint" className="hint">
              {levels
                ? "Each line is heavier and bears its height."
                : every > 0
                  ? `Every ${num(every * interval)} ${unit} a line is heavier and bears its height.`
                  : `No line is heavier than another: ${propertyOf(NAME, "index_every").title} is 0.`}
            </p>,
          ],
        },
        { title: "Lines", of: ["smoothing", "minimum_length", "name"] },
      ]}
    />
  );
}
