import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type ScorecardSlopes } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { num, shortUnit } from "../desk/format";
import { marks } from "../desk/key/range";
import { useDesk } from "../desk/store";
import { INKS, SLOT_INKS } from "../map/dress";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import styles from "./slopes.module.css";
import { useAsked } from "./useScorecard";

const [WIDE, HIGH, LEFT, FOOT] = [820, 330, 56, 38];

/** How wrong each surface is on slopes: the curve of its error model, and what its errors themselves do. */
export function SlopesView() {
  const project = useProject();
  const asked = useAsked();
  const { a, b, surfaces } = useHeld();
  const open = useDesk((desk) => desk.open);
  const setSheet = useDesk((desk) => desk.sheet);
  const [ground, setGround] = useState("all ground");
  const [pointed, setPointed] = useState<number | null>(null);
  const { data, error } = useQuery({
    queryKey: KEYS.scorecardSlopes(project.id, project.frame.mark, asked),
    queryFn: ({ signal }) => call<ScorecardSlopes>("POST", `/projects/${project.id}/scorecard/slopes`, asked, signal),
    enabled: asked !== null,
    staleTime: 60_000,
    retry: false,
  });
  if (error)
    return (
      <p className={styles.none} role="alert">
        {error.message}
      </p>
    );
  if (!data) return <p className={styles.none}>Working out the curves …</p>;
  const unit = shortUnit(project.frame.unit);
  const grounds = [...new Set(data.models.flatMap((one) => one.curves.map((curve) => curve.ground)))];
  const shown = grounds.includes(ground) ? ground : (grounds[0] ?? "all ground");
  const lines = data.models.map((one, i) => {
    const key = surfaces.find((held) => held.id === one.id)?.key;
    const slot = key !== undefined && key === a?.key ? "a" : key !== undefined && key === b?.key ? "b" : null;
    const ink = slot ? SLOT_INKS[slot] : (INKS[i % INKS.length] as string);
    return { ...one, slot, ink, curve: one.curves.find((curve) => curve.ground === shown) };
  });
  const drawn = lines.filter((one) => one.curve);
  const most = Math.max(
    ...drawn.flatMap((one) => [...(one.curve?.sigma ?? []), ...(one.curve?.seen ?? []).map((seen) => seen[1])]),
    0.1,
  );
  const far = data.slopes.at(-1) ?? 60;
  // small errors are told apart as well as large ones
  const x = (slope: number) => LEFT + (slope / far) * (WIDE - LEFT - 16);
  const y = (sigma: number) => HIGH - FOOT - Math.sqrt(Math.max(sigma, 0) / most) * (HIGH - FOOT - 12);
  const digits = most < 1 ? 2 : most < 10 ? 1 : 0;
  return (
    <div className={styles.view}>
      <div className={styles.head}>
        <p>
          <b>One standard deviation of the errors, by slope.</b> Lines are models of the kind by which the best of all
          weighs its sources; dots are what the errors themselves do.
        </p>
        {grounds.length > 1 && (
          <Choice
            label="Ground"
            value={shown}
            options={grounds.map((one) => ({ value: one, title: one }))}
            onChange={setGround}
          />
        )}
      </div>
      {drawn.length === 0 ? (
        <p className={styles.none}>No surface has errors enough on this ground to tell a curve by.</p>
      ) : (
        <svg
          className={styles.chart}
          viewBox={`0 0 ${WIDE} ${HIGH}`}
          role="img"
          aria-label={`Errors by slope, ${shown}`}
        >
          {marks(0, most, 5).map((sigma) => (
            <g key={sigma}>
              <line x1={LEFT} x2={WIDE - 16} y1={y(sigma)} y2={y(sigma)} />
              <text x={LEFT - 6} y={y(sigma) + 4} textAnchor="end">
                {num(sigma, digits)}
              </text>
            </g>
          ))}
          {marks(0, far, 6).map((slope) => (
            <text key={slope} x={x(slope)} y={HIGH - FOOT + 16} textAnchor="middle">
              {num(slope)}°
            </text>
          ))}
          {drawn.map((one) => (
            <g key={one.id} opacity={pointed === null || pointed === one.id ? 1 : 0.25}>
              <polyline
                stroke={one.ink}
                strokeWidth={one.slot || pointed === one.id ? 2.4 : 1.5}
                points={one.curve?.sigma
                  .map((sigma, i) => `${x(data.slopes[i] ?? 0).toFixed(1)},${y(sigma).toFixed(1)}`)
                  .join(" ")}
              />
              {one.curve?.seen.map(([slope, spread]) => (
                <circle key={slope} cx={x(slope)} cy={y(spread)} r="3" fill={one.ink} />
              ))}
            </g>
          ))}
          <text x={WIDE - 16} y={HIGH - 4} textAnchor="end">
            slope
          </text>
          <text x="2" y={HIGH - 4}>
            standard deviation, {unit}, stretched near 0
          </text>
        </svg>
      )}
      <table className={`t ${styles.table}`} aria-label="Error models">
        <thead>
          <tr>
            <th className="w">surface</th>
            <th title="Median error, which is taken off before">offset</th>
            <th>level ground</th>
            <th>slope of 30°</th>
            <th>errors known</th>
            <th title="Share of the errors that lie within 1.645 of these standard deviations; 90 % where it is honest">
              within 90 %
            </th>
            <th />
          </tr>
        </thead>
        <tbody>
          {lines.map((one) => (
            <tr key={one.id} onPointerEnter={() => setPointed(one.id)} onPointerLeave={() => setPointed(null)}>
              <td className="w">
                <i className={styles.ink} style={{ background: one.ink }} />
                {one.name}
              </td>
              {one.curve ? (
                <>
                  <td className="n">
                    {one.curve.bias > 0 ? "+" : ""}
                    {num(one.curve.bias, 2)} {unit}
                  </td>
                  <td className="n">
                    {num(one.curve.sigma[0], 2)} {unit}
                  </td>
                  <td className="n">
                    {num(one.curve.sigma[data.slopes.indexOf(30)], 2)} {unit}
                  </td>
                  <td className="n">{num(one.count)}</td>
                  <td className="n">{one.within == null ? "" : `${num(100 * one.within)} %`}</td>
                  <td>
                    {project.role !== "viewer" && (
                      <Button
                        kind="link"
                        aria-label={`Uncertainty of ${one.name} as a surface`}
                        onClick={() => {
                          setSheet("uncertainty", {
                            inputs: { surface: one.id, ...(asked?.points ? { points: asked.points } : {}) },
                          });
                          open("Judge", "uncertainty");
                        }}
                      >
                        As a surface
                      </Button>
                    )}
                  </td>
                </>
              ) : (
                <td colSpan={6} className="mut w">
                  {one.reason || "Too few of its errors are known on this ground."}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
