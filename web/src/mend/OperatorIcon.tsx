import styles from "./mend.module.css";
import { OPERATORS, type OperatorKind } from "./operators";

/** The profile of an operator: thin the ground before, thick what becomes of it. */
export const OperatorIcon = ({ kind, small }: { kind: OperatorKind; small?: boolean }) => (
  <svg
    viewBox="0 0 40 18"
    width={small ? 26 : 34}
    height={small ? 12 : 15}
    aria-hidden="true"
    className={styles.sketch}
  >
    <path d={OPERATORS[kind].before} className={styles.was} />
    <path d={OPERATORS[kind].after} className={styles.is} />
  </svg>
);
