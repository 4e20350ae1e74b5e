import styles from "./judge.module.css";

/** What the signs of the scorecard are. asked: what the brief asks, where it says something of errors. */
export const Legend = ({ asked }: { asked?: string }) => (
  <div className={styles.legend}>
    <span>
      <svg width="26" height="12" viewBox="0 0 26 12" aria-hidden="true">
        <path d="M0 11c6 0 8-9 13-9s7 9 13 9z" fill="#aab0ae" stroke="var(--muted)" />
      </svg>
      errors
    </span>
    <span>
      <svg width="8" height="12" viewBox="0 0 8 12" aria-hidden="true">
        <path d="M4 0v12" stroke="var(--ink)" strokeWidth="2" />
      </svg>
      mean
    </span>
    <span>
      <svg width="22" height="8" viewBox="0 0 22 8" aria-hidden="true">
        <path d="M1 1v5h20v-5" fill="none" stroke="var(--ink)" />
      </svg>
      where the mean may lie, 95 %
    </span>
    <span>
      <svg width="22" height="6" viewBox="0 0 22 6" aria-hidden="true">
        <rect width="22" height="5" y="1" fill="var(--muted)" />
      </svg>
      median ± NMAD
    </span>
    {asked && (
      <span>
        <svg width="22" height="12" viewBox="0 0 22 12" aria-hidden="true">
          <rect className={styles.asked} width="22" height="12" />
        </svg>
        {asked}
      </span>
    )}
    <span>
      <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true">
        <circle cx="5" cy="5" r="4" fill="var(--ink)" />
      </svg>
      mean of a class, filled where {asked ? "LE95 keeps the brief" : "it is the best"}; LE95 below
    </span>
  </div>
);
