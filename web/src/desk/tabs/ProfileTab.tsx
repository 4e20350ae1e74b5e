import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { call, type Profile } from "../../api/client";
import { KEYS } from "../../api/keys";
import type { Place } from "../../map/shapes";
import { PROFILE_TOOL } from "../../tools/profile";
import { Button } from "../../ui/Button";
import { useHeld, useProject } from "../context";
import { num, shortUnit } from "../format";
import { useOverlay } from "../overlays";
import { toolOf, useDesk } from "../store";
import { useCompared } from "../useCompared";
import { csvOf, drawProfile, exaggeration, gradientAt, placeAt, placeNear, rangeOf, type Series } from "./profileChart";
import { useChart } from "./useChart";

const NEAR = 16; // pixels from the line within which the pointer on the map means a place on it

/** Gives a person a file. */
function give(name: string, content: Blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** Surfaces along a line drawn on the map: their heights in one chart, with figures and the pointer linked to the map. */
export function ProfileTab() {
  const project = useProject();
  const { a } = useHeld();
  const line = useDesk((desk) => desk.line);
  const tracing = useDesk((desk) => toolOf(desk) === PROFILE_TOOL);
  const take = useDesk((desk) => desk.take);
  const drop = useDesk((desk) => desk.drop);
  const pointer = useDesk((desk) => (desk.overMap ? desk.pointer : null));
  const resolution = useDesk((desk) => desk.view?.resolution ?? 1);
  const preview = useDesk((desk) => desk.preview);
  const [at, setAt] = useState<number | null>(null);
  const { shown, others, add } = useCompared();
  const keys = shown.map(({ holding }) => holding.key);
  const { data, error, isFetching } = useQuery({
    queryKey: KEYS.profile(project.id, keys, line),
    queryFn: ({ signal }) => call<Profile>("POST", `/projects/${project.id}/profiles`, { keys, line }, signal),
    enabled: line !== null && keys.length > 0,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
  const unit = shortUnit(project.frame.unit);
  const series: Series[] = shown.flatMap(({ holding: { key, name }, ink }) => {
    const course = data?.courses[key];
    return course ? [{ key, name, colour: ink, heights: course.heights }] : [];
  });
  // the pointer on the chart, else on the map where it is near the line
  const near = pointer && data && !tracing ? placeNear(data, pointer, NEAR * resolution) : null;
  const place = at !== null && data && at < data.distance.length ? at : near;
  useOverlay(
    "profile",
    useMemo(
      () =>
        line && {
          line,
          at: place === null || !data ? null : ([data.x[place], data.y[place]] as Place),
        },
      [line, place, data],
    ),
  );
  useEffect(() => () => useDesk.getState().drop(PROFILE_TOOL.owner), []);

  if (!keys.length) return <p className="empties">Put a surface of heights in A or B to see its profile.</p>;
  const draw = (
    <Button
      kind="link"
      aria-pressed={tracing}
      onClick={() => (tracing ? drop(PROFILE_TOOL.owner) : take(PROFILE_TOOL))}
    >
      {tracing ? "Do not draw" : line ? "Draw another line" : "Draw a line on the map"}
    </Button>
  );
  if (!line) return <p className="empties">{draw}</p>;
  if (error)
    return (
      <p className="empties">
        {error.message} {draw}
      </p>
    );
  if (!data) return <p className="empties">Reading the surfaces along the line…</p>;
  const title = `${project.name}, profile`;
  return (
    <div className="profile" aria-busy={isFetching}>
      <div className="told">
        <table className="t" aria-label="Profile">
          <thead>
            <tr>
              <th>
                {place === null ? (
                  <>
                    <span className="n">{num(data.distance.at(-1))}</span> m long
                  </>
                ) : (
                  <>
                    at <span className="n">{num(data.distance[place])}</span> m
                  </>
                )}
              </th>
              <th>{place === null ? "lowest" : "height"}</th>
              <th>{place === null ? "highest" : "gradient"}</th>
              <th>up</th>
              <th>down</th>
            </tr>
          </thead>
          <tbody>
            {series.map(({ key, name, colour, heights }) => {
              const course = data.courses[key];
              const leave = shown.find((one) => one.holding.key === key)?.leave;
              const figure = (value: number | null | undefined, of = unit, decimals = 2) => (
                <td>
                  <span className="n">{num(value, decimals)}</span> {value == null ? "" : of}
                </td>
              );
              return (
                <tr key={key}>
                  <td title={name}>
                    <i className="patch" style={{ background: colour }} />
                    {name}
                    {leave && (
                      <Button kind="link" aria-label={`Leave ${name} out`} onClick={leave}>
                        ×
                      </Button>
                    )}
                  </td>
                  {place === null ? figure(course?.lowest) : figure(heights[place])}
                  {place === null ? figure(course?.highest) : figure(gradientAt(heights, place, data.distance), "%", 1)}
                  {figure(course?.climb, unit, 1)}
                  {figure(course?.fall, unit, 1)}
                </tr>
              );
            })}
          </tbody>
        </table>
        {preview && a && <p className="mut">A is {a.name} itself, without the preview.</p>}
        <p className="acts">
          {draw}
          {others.length > 0 && (
            <select aria-label="Add a surface" value="" onChange={(event) => add(event.target.value)}>
              <option value="">add a surface</option>
              {others.map((one) => (
                <option key={one.key} value={one.key}>
                  {one.name}
                </option>
              ))}
            </select>
          )}
          <Button
            kind="link"
            onClick={() => give(`${title}.csv`, new Blob([csvOf(data, series, unit)], { type: "text/csv" }))}
          >
            CSV
          </Button>
          <Button
            kind="link"
            onClick={() => {
              const canvas = document.createElement("canvas");
              [canvas.width, canvas.height] = [1800, 600];
              const context = canvas.getContext("2d");
              if (!context) return;
              context.fillStyle = "#FCFBF7";
              context.scale(2, 2);
              drawProfile(context, 900, 300, data, series, unit);
              context.globalCompositeOperation = "destination-over";
              context.fillRect(0, 0, 900, 300);
              canvas.toBlob((blob) => blob && give(`${title}.png`, blob));
            }}
          >
            PNG
          </Button>
        </p>
      </div>
      <Chart profile={data} series={series} unit={unit} at={place} onPoint={setAt} />
    </div>
  );
}

function Chart(props: {
  profile: Profile;
  series: Series[];
  unit: string;
  at: number | null;
  onPoint: (at: number | null) => void;
}) {
  const { profile, series, unit, at, onPoint } = props;
  const { canvas, size } = useChart((context, width, height) =>
    drawProfile(context, width, height, profile, series, unit, at),
  );
  const range = rangeOf(series);
  const length = profile.distance.at(-1) ?? 0;
  return (
    <div className="chart">
      <canvas
        ref={canvas}
        role="img"
        aria-label="Heights along the line"
        onPointerMove={(event) => {
          const box = event.currentTarget.getBoundingClientRect();
          onPoint(placeAt(event.clientX - box.left, size[0], profile.distance.length));
        }}
        onPointerLeave={() => onPoint(null)}
      />
      {range && length > 0 && (
        <span className="times mut">
          vertical exaggeration <span className="n">{num(exaggeration(length, range, ...size), 1)}</span>
        </span>
      )}
    </div>
  );
}
