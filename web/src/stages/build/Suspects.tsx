import { num } from "../../desk/format";
import { usePlaces } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { Button } from "../../ui/Button";
import styles from "./suspects.module.css";
import type { Comparison } from "./WhichMethod";

const TIMES = 6; // the spread without outliers, beyond which a point does not fit its neighbours
const LISTED = 6;

/** Points that their neighbours contradict: either the ground is rough there, or they are wrong. */
export function Suspects({
  found,
  method,
  onLeaveOut,
}: {
  found: Comparison;
  method: string;
  onLeaveOut: (places: [number, number][]) => void;
}) {
  const set = useDesk((desk) => desk.set);
  const marks = usePlaces();
  const nmad = found.methods[method]?.figures?.nmad ?? 0;
  const listed = (found.errors[method] ?? [])
    .flatMap((error, i) => {
      const [x, y] = found.points[i] ?? [0, 0];
      return error !== null && nmad > 0 && Math.abs(error) > TIMES * nmad ? [{ x, y, error }] : [];
    })
    .sort((one, other) => Math.abs(other.error) - Math.abs(one.error));
  if (!listed.length) return null;
  const places = listed.map(({ x, y }): [number, number] => [x, y]);
  return (
    <div className={styles.suspects}>
      <span className="n">{num(listed.length)}</span> {listed.length === 1 ? "point does" : "points do"} not fit{" "}
      {listed.length === 1 ? "its" : "their"} neighbours by more than <span className="n">{num(TIMES * nmad, 1)}</span>{" "}
      {found.unit}.{" "}
      <Button kind="link" onClick={() => marks.show(places)}>
        Mark them
      </Button>
      {", "}
      <Button kind="link" onClick={() => onLeaveOut(places)}>
        Leave them out
      </Button>
      <ul aria-label="Points that do not fit">
        {listed.slice(0, LISTED).map(({ x, y, error }) => (
          <li key={`${x} ${y}`}>
            <span className="n">
              {num(-error, 1)} {found.unit}
            </span>
            <span className="mut">{error > 0 ? "below" : "above"} what is expected</span>
            <Button
              kind="link"
              aria-label={`Leave out the point at E ${num(x)} N ${num(y)}`}
              onClick={() => onLeaveOut([[x, y]])}
            >
              Leave out
            </Button>
            <Button
              kind="link"
              aria-label={`Go to the point at E ${num(x)} N ${num(y)}`}
              onClick={() => {
                marks.show([[x, y]]);
                set({ goTo: { x, y, resolution: 1 } });
              }}
            >
              Go there
            </Button>
          </li>
        ))}
      </ul>
    </div>
  );
}
