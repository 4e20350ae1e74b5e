import { Fragment } from "react";
import type { Scorecard } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { metresIn, num, shortUnit, size } from "../desk/format";
import { useDesk } from "../desk/store";
import { SlotChip } from "../map/SlotChip";
import { Button } from "../ui/Button";
import { Segments } from "../ui/Segments";
import { along, ticks } from "./axis";
import { limitOf, shownLimit } from "./demands";
import { ErrorShape } from "./ErrorShape";
import styles from "./judge.module.css";
import { Legend } from "./Legend";
import { PartCell } from "./PartCell";
import { SlopesView } from "./SlopesView";
import { type Sorted, useJudgeState } from "./state";
import { Unfolded } from "./Unfolded";
import { useBrief } from "./useBrief";
import { useJudging, useScorecard } from "./useScorecard";

type Row = Scorecard["rows"][number];

const COLUMNS: { name: Sorted; title: string; hint: string }[] = [
  { name: "count", title: "count", hint: "Places at which it was judged" },
  { name: "mean", title: "mean", hint: "Mean error" },
  { name: "nmad", title: "NMAD", hint: "Normalised median absolute deviation: spread without the outliers" },
  { name: "rmse", title: "RMSE", hint: "Root mean square error" },
  { name: "le95", title: "LE95", hint: "The error that 95 % stay within" },
];

const digitsOf = (value: number) => (Math.abs(value) < 10 ? 2 : 1);
const signed = (value: number) => `${value > 0 ? "+" : ""}${num(value, digitsOf(value))}`;

/** By which rows stand: how far the figure is from the best there is; surfaces that could not be judged stand last. */
const placeOf = (row: Row, by: Sorted) =>
  row.whole ? (by === "count" ? -row.whole.count : Math.abs(row.whole[by])) : Number.POSITIVE_INFINITY;

function Figure({ row, name, unit }: { row: Row; name: Sorted; unit: string }) {
  const { whole } = row;
  if (!whole) return null;
  const between = name === "mean" || name === "le95" ? whole.sure[name] : undefined;
  if (name === "count")
    return (
      <>
        <span className="n">{num(whole.count)}</span>
        {whole.unused > 0 && <span className={`${styles.under} n`}>of {num(whole.count + whole.unused)}</span>}
      </>
    );
  const value = whole[name];
  return (
    <>
      <span className={`n ${name === "le95" ? styles.bold : ""}`}>
        {name === "mean" ? signed(value) : num(value, digitsOf(value))}
      </span>{" "}
      {unit}
      {between && (
        <span className={`${styles.under} n`}>
          {name === "mean"
            ? `± ${num((between[1] - between[0]) / 2, digitsOf(value))}`
            : `${num(between[0], digitsOf(value))}–${num(between[1], digitsOf(value))}`}
        </span>
      )}
    </>
  );
}

/** How all chosen surfaces do at the same places, a row each. */
export function ScorecardView() {
  const project = useProject();
  const { a, b, surfaces } = useHeld();
  const set = useDesk((desk) => desk.set);
  const setSheet = useDesk((desk) => desk.sheet);
  const params = useDesk((desk) => desk.sheets.scorecard?.params);
  const { asked, card, error, stale } = useScorecard();
  const { running, failed, again } = useJudging();
  const judging = running ? (
    "Being judged …"
  ) : project.role === "viewer" ? (
    "Not judged yet: an editor of this project must look at the scorecard first."
  ) : (
    <>
      {failed ?? "Not judged yet."}{" "}
      <Button kind="link" onClick={again}>
        Judge it
      </Button>
    </>
  );
  const { unfolded, pressed, sorted, even, plot, set: change } = useJudgeState();
  const unit = shortUnit(project.frame.unit);
  const rows = card ? [...card.rows].sort((one, other) => placeOf(one, sorted) - placeOf(other, sorted)) : [];
  const classes = card?.split.names ?? [];
  const marks = card ? ticks(card) : [];
  const span = 2 + COLUMNS.length + classes.length;
  const digits = rows.some((row) => row.parts.some((part) => part && part.le95 >= 100)) ? 1 : 2;
  const columns = classes.map((_, part) => rows.map((row) => row.parts[part]?.le95 ?? Number.POSITIVE_INFINITY));
  // what the brief asks in metres stands on the axis in the frame's unit
  const { demands } = useBrief();
  const metre = 1 / metresIn(project.frame.unit);
  const inUnit = (limit: number | undefined) => (limit === undefined ? undefined : limit * metre);
  const byCover = asked?.split === "cover";
  const limits = classes.map((name) => inUnit(limitOf(demands, byCover ? name : undefined)));
  const whole = shownLimit(demands);
  return (
    <div className={`map ${styles.bench}`} role="region" aria-label="Scorecard" aria-busy={stale}>
      <div className={styles.head}>
        <SlotChip slot="a" holding={a} />
        <div className={styles.benches}>
          <Segments
            label="What stands in the middle"
            value={plot}
            options={[
              { value: "map", title: "Map" },
              { value: "rows", title: "Scorecard" },
              { value: "slopes", title: "Error and slope" },
            ]}
            onChange={(one) => (one === "map" ? set({ bench: "map" }) : change({ plot: one as "rows" | "slopes" }))}
          />
        </div>
        <SlotChip slot="b" holding={b} />
      </div>
      {error ? (
        <p className={styles.none} role="alert">
          {error.message}
        </p>
      ) : !asked ? (
        <p className={styles.none}>
          Choose surfaces, and points or a surface against which they are judged, on the left.
        </p>
      ) : !card ? (
        <p className={styles.none} role="status">
          Reading the surfaces …
        </p>
      ) : plot === "slopes" ? (
        <SlopesView />
      ) : (
        <>
          <div className={styles.answer}>
            <b>{card.sentence}</b>
            <span>
              counted on
              <Segments
                label="Counted on"
                value={params?.shared ? "shared" : "own"}
                options={[
                  { value: "own", title: "own points", hint: "Every surface at all places where it has a height" },
                  {
                    value: "shared",
                    title: `${num(card.shared)} shared`,
                    hint: "Only places at which every surface has a height: rows can be compared",
                  },
                ]}
                onChange={(one) => setSheet("scorecard", { params: { ...params, shared: one === "shared" } })}
              />
            </span>
          </div>
          <div className={styles.scroll}>
            <table className={styles.card} aria-label="Scorecard">
              <colgroup>
                <col style={{ width: 132 }} />
                <col />
                <col style={{ width: 48 }} />
                <col style={{ width: 74 }} />
                <col style={{ width: 62 }} />
                <col style={{ width: 62 }} />
                <col style={{ width: 84 }} />
                {classes.map((name) => (
                  <col key={name} style={{ width: 52 }} />
                ))}
              </colgroup>
              <thead>
                <tr>
                  <th className={styles.name}>surface</th>
                  <th className={styles.shapes}>
                    <Button kind="bare" title="Even, or stretched near zero" onClick={() => change({ even: !even })}>
                      error, {unit} · {card.knee ? "stretched near 0" : "even"}
                    </Button>
                    <span className={styles.ticks}>
                      {marks.map((mark) => (
                        <i key={mark} style={{ left: `${along(card, mark) * 100}%` }}>
                          {mark > 0 ? "+" : ""}
                          {num(mark, Math.abs(mark) >= 1 || mark === 0 ? 0 : Math.abs(mark) >= 0.1 ? 1 : 2)}
                        </i>
                      ))}
                    </span>
                  </th>
                  {COLUMNS.map(({ name, title, hint }) => (
                    <th key={name} title={hint} aria-sort={sorted === name ? "ascending" : undefined}>
                      <Button kind="bare" onClick={() => change({ sorted: name })}>
                        {title}
                        {sorted === name && " ▾"}
                      </Button>
                    </th>
                  ))}
                  {classes.map((name, part) => (
                    <th key={name} className={styles.class} title={`${name}: ${num(card.split.counts[part])} places`}>
                      <b>{name}</b>
                      <span className={(card.split.counts[part] ?? 0) < 20 ? styles.few : ""}>
                        <span className="n">{num(card.split.counts[part])}</span>
                        {(card.split.counts[part] ?? 0) < 20 && " few"}
                      </span>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.map((row) => {
                  const held = surfaces.find((one) => one.id === row.id);
                  const slot = held && held.key === a?.key ? "a" : held && held.key === b?.key ? "b" : null;
                  const here = pressed?.surface === row.id;
                  return (
                    <Fragment key={row.id}>
                      <tr className={slot ? styles[slot] : ""}>
                        <td>
                          <Button
                            kind="bare"
                            className={styles.title}
                            aria-expanded={unfolded === row.id}
                            title={row.name}
                            onClick={() => change({ unfolded: unfolded === row.id ? null : row.id })}
                          >
                            <b>
                              {slot && <span className={`chip${slot}`}>{slot.toUpperCase()}</span>} {row.name}
                            </b>
                            <span className={styles.under}>
                              <span className="n">{size(held?.surface?.cell_size ?? 0)}</span> m
                              {row.left_out > 0 && `, ${num(row.left_out)} left out`}
                              {row.moved && ", put right"}
                            </span>
                          </Button>
                        </td>
                        {row.whole ? (
                          <>
                            <td className={styles.shapes}>
                              <ErrorShape
                                row={row}
                                axis={card}
                                marks={marks}
                                slot={slot}
                                limit={inUnit(whole?.within)}
                              />
                            </td>
                            {COLUMNS.map(({ name }) => (
                              <td key={name}>
                                {name === "count" ? (
                                  <Button
                                    kind="bare"
                                    className={styles.whole}
                                    aria-pressed={here && pressed.part === null}
                                    title="Show its points"
                                    onClick={() =>
                                      change({
                                        pressed: { surface: row.id, part: null, second: null, outliers: false },
                                      })
                                    }
                                  >
                                    <span>
                                      <Figure row={row} name={name} unit={unit} />
                                    </span>
                                  </Button>
                                ) : (
                                  <Figure row={row} name={name} unit={unit} />
                                )}
                              </td>
                            ))}
                            {classes.map((name, part) => (
                              <td key={name} className={styles.class}>
                                <PartCell
                                  figures={row.parts[part] ?? null}
                                  axis={card}
                                  good={
                                    limits[part] === undefined
                                      ? row.parts[part]?.le95 === Math.min(...(columns[part] ?? []))
                                      : (row.parts[part]?.le95 ?? Number.POSITIVE_INFINITY) <= limits[part]
                                  }
                                  limit={limits[part]}
                                  chosen={here && pressed.part === part && pressed.second === null}
                                  label={`${row.name} in ${name}`}
                                  unit={unit}
                                  digits={digits}
                                  onPress={() =>
                                    change({ pressed: { surface: row.id, part, second: null, outliers: false } })
                                  }
                                />
                              </td>
                            ))}
                          </>
                        ) : (
                          <td colSpan={span - 1} style={{ textAlign: "left", whiteSpace: "normal" }} className="mut">
                            {row.reason ||
                              (card.waiting.includes(row.id)
                                ? judging
                                : "None of the points lies on a filled cell of it.")}
                          </td>
                        )}
                      </tr>
                      {unfolded === row.id && row.whole && <Unfolded card={card} row={row} unit={unit} span={span} />}
                    </Fragment>
                  );
                })}
              </tbody>
            </table>
          </div>
          <Legend
            asked={
              whole && `the brief, ± ${num(whole.within * metre, 2)} ${unit}${whole.where ? ` in ${whole.where}` : ""}`
            }
          />
        </>
      )}
    </div>
  );
}
