import type { Holding } from "../../api/client";
import { usePreview } from "../../api/queries";
import { useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { marks } from "../../desk/key/range";
import { numbersOf } from "../../desk/tables";
import { Button } from "../../ui/Button";
import type { Work } from "../useWorksheet";
import { pointsAsked } from "./pointsAsked";

interface Found {
  points: number;
  best: number;
  unit: string;
}

const [WIDE, HIGH, LEFT, FOOT] = [278, 104, 34, 28];

/** What the spline would miss left-out points by, for each smoothing; a press on a dot takes it. */
export function Smoothing({ work, points }: { work: Work<"interpolate_points">; points: Holding | undefined }) {
  const { params, given, setParams } = work;
  const project = useProject();
  const { data } = usePreview(
    project.id,
    points && project.role !== "viewer"
      ? {
          operation: "spline_smoothing",
          params: { ...pointsAsked(given), tension: params.tension },
          inputs: { points: points.id },
        }
      : null,
  );
  if (!data?.table) return null;
  const smoothings = numbersOf(data.table, "smoothing");
  const rmse = numbersOf(data.table, "rmse");
  const { points: leftOut, best, unit } = data.table.facts as unknown as Found;
  const used = params.smoothing;
  const least = Math.min(...rmse);
  // far worse ones stand at the top: the choice is among the good ones
  const most = Math.min(Math.max(...rmse), least * 2.2);
  const low = least * 0.9;
  const x = (i: number) => LEFT + 8 + (i / Math.max(smoothings.length - 1, 1)) * (WIDE - LEFT - 20);
  const y = (error: number) => HIGH - FOOT - ((Math.min(error, most) - low) / (most - low)) * (HIGH - FOOT - 10);
  const digits = least < 1 ? 2 : 1;
  return (
    <>
      <svg
        className="distance"
        viewBox={`0 0 ${WIDE} ${HIGH}`}
        role="group"
        aria-label="Error at points left out, by smoothing"
      >
        {marks(low, most, 3).map((error) => (
          <g key={error}>
            <line x1={LEFT} x2={WIDE - 6} y1={y(error)} y2={y(error)} />
            <text x={LEFT - 4} y={y(error) + 3.5} textAnchor="end">
              {num(error, digits)}
            </text>
          </g>
        ))}
        <polyline stroke="var(--muted)" points={rmse.map((error, i) => `${x(i)},${y(error).toFixed(1)}`).join(" ")} />
        {smoothings.map((smoothing, i) => (
          <circle
            key={smoothing}
            className={`pick ${smoothing === used ? "used" : ""}`}
            cx={x(i)}
            cy={y(rmse[i] ?? 0)}
            r={smoothing === used ? 4.5 : 3.5}
            role="button"
            tabIndex={0}
            aria-label={`Smoothing ${smoothing}: ${num(rmse[i], 2)} ${unit}`}
            aria-pressed={smoothing === used}
            onClick={() => setParams({ smoothing })}
            onKeyDown={(event) => (event.key === "Enter" || event.key === " ") && setParams({ smoothing })}
          />
        ))}
        {smoothings.map((smoothing, i) =>
          String(smoothing).endsWith("3") ? null : (
            <text key={smoothing} x={x(i)} y={HIGH - FOOT + 13} textAnchor="middle">
              {String(smoothing).replace(/^0\./, ".")}
            </text>
          ),
        )}
        <text className="word" x={WIDE - 6} y={HIGH - 2} textAnchor="end">
          smoothing
        </text>
        <text className="word" x={LEFT} y={HIGH - 2}>
          RMSE at <tspan className="n">{num(leftOut)}</tspan> points left out, {unit}
        </text>
      </svg>
      {used !== best && (
        <p className="times">
          <Button kind="link" onClick={() => setParams({ smoothing: best })}>
            Take <span className="n">{best}</span>, the least
          </Button>
        </p>
      )}
    </>
  );
}
