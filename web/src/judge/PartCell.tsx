import type { ScorecardFigures } from "../api/client";
import { num } from "../desk/format";
import { Button } from "../ui/Button";
import { type Axis, along } from "./axis";
import styles from "./judge.module.css";

const RIM = 44; // pixels across, of which the middle is 0
const half = RIM / 2;

interface Props {
  figures: ScorecardFigures | null;
  axis: Axis;
  /** Whether it does best of all, or keeps what the brief asks where that says something. */
  good: boolean;
  /** Within which the brief wants errors here. */
  limit?: number;
  chosen: boolean;
  label: string;
  unit: string;
  digits: number;
  onPress: () => void;
}

/** How a surface does in one class: its mean as a dot beside zero, and the error that 95 % stay within. */
export function PartCell({ figures, axis, good, limit, chosen, label, unit, digits, onPress }: Props) {
  if (!figures) return <span className={styles.nothing}>–</span>;
  const at = (error: number) => 5 + along(axis, error) * (RIM - 10);
  const told = `${label}: mean ${num(figures.mean, digits)} ${unit}, 95 % within ${num(figures.le95, digits)} ${unit}, ${num(figures.count)} places${limit === undefined ? "" : good ? ", within the brief" : ", beyond the brief"}`;
  return (
    <Button kind="bare" className={styles.part} aria-pressed={chosen} aria-label={told} title={told} onClick={onPress}>
      <svg viewBox={`0 0 ${RIM} 14`} width={RIM} height="14" aria-hidden="true">
        {limit !== undefined && (
          <rect className={styles.asked} x={at(-limit)} width={at(limit) - at(-limit)} y="0" height="14" />
        )}
        <line x1={half} x2={half} y1="0" y2="14" />
        <line
          className={styles.spread}
          x1={at(figures.mean - figures.nmad)}
          x2={at(figures.mean + figures.nmad)}
          y1="7"
          y2="7"
        />
        <circle className={good ? styles.good : ""} cx={at(figures.mean)} cy="7" r="3.6" />
      </svg>
      <span className={`n ${good ? styles.bold : ""} ${figures.few ? styles.few : ""}`}>
        {num(figures.le95, digits)}
      </span>
    </Button>
  );
}
