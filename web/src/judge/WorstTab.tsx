import { useEffect, useMemo, useState } from "react";
import type { WorstPlace } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { areaOf, num, shortUnit } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { giveTo } from "../stages/join/giveTo";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Segments } from "../ui/Segments";
import { useJudgeState } from "./state";
import { PAGE, useWorst } from "./useWorst";
import styles from "./worst.module.css";

const signed = (value: number, digits = 1) => `${value > 0 ? "+" : ""}${num(value, digits)}`;

interface CardProps {
  place: WorstPlace;
  unit: string;
  onGo: () => void;
  onMend: (() => void) | null;
  /** Takes the surface that is not suspected there, in a mosaic; null where neither is. */
  onUse: (() => void) | null;
}

function WorstCard({ place, unit, onGo, onMend, onUse }: CardProps) {
  const { corner, side, ring } = place;
  const outline = ring
    .map(
      ([x, y]) => `${(((x - corner[0]) / side[0]) * 76).toFixed(1)},${(((corner[1] - y) / side[1]) * 76).toFixed(1)}`,
    )
    .join(" ");
  const where = { first: " in A", second: " in B", both: "" }[place.which];
  return (
    <li className={styles.place}>
      <div className={styles.shots}>
        {(
          [
            ["A", place.png_a, "a"],
            ["B", place.png_b, "b"],
            ["A − B", place.png_minus, "minus"],
          ] as const
        ).map(([title, png, slot]) => (
          <span key={slot} className={styles.shot}>
            <img src={`data:image/png;base64,${png}`} alt={`${title} at place ${place.number}`} />
            <svg viewBox="0 0 76 76" aria-hidden="true">
              <polygon className={styles.halo} points={outline} />
              <polygon points={outline} />
            </svg>
            <b data-slot={slot}>{title}</b>
            {slot === "minus" && (
              <i className="n">
                ± {num(place.reach, place.reach < 10 ? 1 : 0)} {unit}
              </i>
            )}
          </span>
        ))}
      </div>
      <p className={styles.line}>
        <b className="n">{place.number}</b>
        <b className={styles.cut} title={place.near}>
          {place.near || "Unnamed"}
        </b>
        <span>
          <span className="n">{areaOf(place.area)}</span>
          {place.cover && `, ${place.cover}`}
        </span>
      </p>
      <p className={styles.line}>
        <span title="Mean of A − B">
          <b className="n">{signed(place.mean)}</b> {unit}
        </span>
        <span className={styles.cause}>
          {place.title}
          {where}
        </span>
        <span className={`${styles.end} acts`}>
          {onUse && (
            <Button kind="link" title="Takes it here, in a mosaic of both under Join" onClick={onUse}>
              Use {place.which === "first" ? "B" : "A"}
            </Button>
          )}
          {onMend && (
            <Button kind="link" onClick={onMend}>
              Mend
            </Button>
          )}
          <Button kind="link" aria-label={`Go to place ${place.number}`} onClick={onGo}>
            Go
          </Button>
        </span>
      </p>
    </li>
  );
}

/** Where A and B differ most, place by place. */
export function WorstTab() {
  const project = useProject();
  const { a, b } = useHeld();
  const set = useDesk((desk) => desk.set);
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  const [inView, setInView] = useState(false);
  const [first, setFirst] = useState(0);
  const judge = useJudgeState((state) => state.set);
  const { both, cover, covers, data, error, isFetching, isPlaceholderData } = useWorst(inView, first);
  const unit = shortUnit(project.frame.unit);
  const told = data?.told ?? 0;
  // another pair of surfaces, or another view, begins with its worst
  useEffect(() => {
    if (told <= first && first) setFirst(0);
  }, [told, first]);
  const places = data && !error && both ? data.places : null;
  const go = (place: WorstPlace) => {
    const { side, x, y } = place;
    set({ bench: "map", goTo: { x, y, resolution: Math.max(...side) / 500 } });
  };
  const marks = useMemo(
    () =>
      places?.map((one) => ({
        number: one.number,
        at: [one.x, one.y] as [number, number],
        here: false,
        press: () => undefined,
      })) ?? null,
    [places],
  );
  useOverlay("suspects", marks);
  useOverlay(
    "seams",
    useMemo(() => places?.map((one) => [...one.ring, ...one.ring.slice(0, 1)]) ?? null, [places]),
  );
  return (
    <div className={styles.worst}>
      <div className={styles.filters}>
        <Segments
          label="Where to look"
          value={inView ? "view" : "all"}
          options={[
            { value: "all", title: "all over" },
            { value: "view", title: "this view" },
          ]}
          onChange={(one) => {
            setInView(one === "view");
            setFirst(0);
          }}
        />
        {covers.length > 0 && (
          <span className={styles.cover}>
            <Choice
              label="Land cover"
              value={cover ? String(cover.id) : "none"}
              options={[
                { value: "none", title: "none" },
                ...covers.map((one) => ({ value: String(one.id), title: one.name })),
              ]}
              onChange={(one) => judge({ cover: one === "none" ? null : Number(one) })}
            />
          </span>
        )}
        {places && (
          <span className="mut" role="status">
            <span className="n">{num(data?.count)}</span> places,{" "}
            <span className="n">{num((data?.volume ?? 0) / 1000)}</span> thousand m³ between A and B, beside a median of{" "}
            <span className="n">{signed(data?.median ?? 0, 2)}</span> {unit}
          </span>
        )}
        {isFetching && (!data || isPlaceholderData) && <span className="mut">Looking …</span>}
        {told > PAGE && (
          <span className={styles.pages}>
            <Button
              kind="small"
              disabled={first === 0}
              aria-label="Places before"
              onClick={() => setFirst(first - PAGE)}
            >
              ‹
            </Button>
            <span className="n">
              {first + 1}–{Math.min(first + PAGE, told)} of {told}
            </span>
            <Button
              kind="small"
              disabled={first + PAGE >= told}
              aria-label="Places after"
              onClick={() => setFirst(first + PAGE)}
            >
              ›
            </Button>
          </span>
        )}
      </div>
      {!both ? (
        <p className="remark">
          Put one surface of heights in A and another in B: the places where they differ most stand here.
        </p>
      ) : error ? (
        <p className="remark" role="alert">
          {error.message}
        </p>
      ) : places?.length === 0 ? (
        <p className="remark">They differ nowhere by more than they do everywhere.</p>
      ) : (
        <ul className={styles.cards} aria-label="Worst places">
          {places?.map((place) => (
            <WorstCard
              key={place.number}
              place={place}
              unit={unit}
              onGo={() => go(place)}
              onMend={
                project.role !== "viewer" && a
                  ? () => {
                      go(place);
                      sheet("mend", { inputs: { surface: a.id } });
                      open("Mend", "mend");
                    }
                  : null
              }
              onUse={
                project.role !== "viewer" && a && b && place.which !== "both"
                  ? () => {
                      go(place);
                      const [better, other] = place.which === "first" ? [b, a] : [a, b];
                      giveTo(better, other, place.ring);
                    }
                  : null
              }
            />
          ))}
        </ul>
      )}
    </div>
  );
}
