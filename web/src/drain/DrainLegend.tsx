import styles from "./legend.module.css";
import { useDrainState } from "./state";

/** What the lines of the worksheet on streams are, on the map. */
export function DrainLegend() {
  const legend = useDrainState((state) => state.legend);
  if (!legend.length) return null;
  return (
    <ul className={styles.legend} aria-label="Lines on the map">
      {legend.map(({ title, ink, width, dashed, mark }) => (
        <li key={title}>
          <svg viewBox="0 0 26 10" width="26" height="10" aria-hidden="true">
            {mark ? (
              <circle cx="13" cy="5" r="3.8" fill="none" stroke={ink} strokeWidth="1.8" />
            ) : (
              <line
                x1="1"
                x2="25"
                y1="5"
                y2="5"
                stroke={ink}
                strokeWidth={width}
                strokeDasharray={dashed ? "5 3" : undefined}
              />
            )}
          </svg>
          {title}
        </li>
      ))}
    </ul>
  );
}
