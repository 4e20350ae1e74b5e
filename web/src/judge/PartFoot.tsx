import { useMemo } from "react";
import { BENCHES } from "../desk/benches";
import { useProject } from "../desk/context";
import { capital, num, shortUnit } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { Button } from "../ui/Button";
import styles from "./judge.module.css";
import { useJudgeState } from "./state";
import { usePressedPlaces, useScorecard } from "./useScorecard";

/** The part of a row that is pressed, in figures, and the way to its places on the map; what can be pressed where none is. */
export function PartFoot() {
  const { card } = useScorecard();
  const unit = shortUnit(useProject().frame.unit);
  const { pressed, set } = useJudgeState();
  const desk = useDesk((one) => one.set);
  const places = usePressedPlaces();
  const row = card?.rows.find((one) => one.id === pressed?.surface);
  const none = (
    <div className="probe mut" role="status" aria-label="Pressed part">
      {BENCHES.scorecard.rest}
    </div>
  );
  if (!card || !pressed || !row?.whole) return none;
  const { part, second } = pressed;
  const figures = part === null ? row.whole : second === null ? row.parts[part] : row.crossed[part]?.[second];
  const where = [part !== null && card.split.names[part], second !== null && card.second?.names[second]].filter(
    Boolean,
  );
  const [worst] = places?.places ?? [];
  if (!figures) return none;
  return (
    <div className={`probe ${styles.foot}`} role="status" aria-label="Pressed part">
      <b className="cut">
        {where.length > 0 && `${capital(where.join(", "))}: `}
        {pressed.outliers && "Outliers: "}
        {row.name}
      </b>
      <span>
        points <b className="n">{num(pressed.outliers ? places?.total : figures.count)}</b>
      </span>
      {!pressed.outliers && (
        <>
          <span>
            mean <b className="n">{num(figures.mean, 2)}</b> {unit}
          </span>
          <span>
            NMAD <b className="n">{num(figures.nmad, 2)}</b> {unit}
          </span>
          <span>
            LE95 <b className="n">{num(figures.le95, 2)}</b> {unit}
          </span>
        </>
      )}
      {worst && (
        <span>
          worst <b className="n">{num(worst[2], 2)}</b> {unit} at point <b className="n">{places?.numbers[0]}</b>
        </span>
      )}
      <span className={`${styles.end} acts`}>
        {row.whole.outliers > 0 && (
          <Button
            kind="link"
            onClick={() => set({ pressed: { ...pressed, part: null, second: null, outliers: !pressed.outliers } })}
          >
            {pressed.outliers
              ? "All points"
              : row.whole.outliers === 1
                ? "1 outlier"
                : `${num(row.whole.outliers)} outliers`}
          </Button>
        )}
        <Button kind="link" onClick={() => desk({ bench: "map" })}>
          Show them on the map
        </Button>
      </span>
    </div>
  );
}

/** The places of the part that is pressed, on the map, coloured by their error. */
export function PressedOnMap() {
  const places = usePressedPlaces();
  const marks = useMemo(() => {
    if (!places?.places.length) return null;
    const sizes = places.places.map(([, , error]) => Math.abs(error)).sort((a, b) => a - b);
    const full = sizes[Math.floor(sizes.length * 0.9)] || 1;
    return places.places.map(([x, y, error]) => ({ x, y, share: error / full }));
  }, [places]);
  useOverlay("errors", marks);
  return null;
}
