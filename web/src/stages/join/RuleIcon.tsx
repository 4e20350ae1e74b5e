import styles from "./ruleIcon.module.css";

const A = "M2 2h17v11H2z"; // the better surface
const B = "M13 6h17v11H13z"; // the one below it

/** What becomes of the overlap of two surfaces: each drawing says which of them is seen there, or what stands between. */
const RULES: Record<string, { below?: string; above?: string; lines?: string; soft?: boolean }> = {
  priority: { below: B, above: A, soft: true },
  feather: { below: B, above: A, soft: true, lines: "M13 13l6-7" },
  first: { below: B, above: A },
  last: { below: A, above: B },
  seam: { below: B, above: A, lines: "M13 13l2-2 1 1 1-4 2-2" },
  mean: { lines: "M13 9.5h6M14.500 8v3M17.500 8v3" },
  nearest: { lines: "M16 6v7M10.5 7.5h0M21.500 11.500h0" },
  lowest: { lines: "M16 7v4.500M14 9.500l2 2 2-2" },
  highest: { lines: "M16 12V7.500M14 9.500l2-2 2 2" },
  sum: { lines: "M16 7v5M13.500 9.500h5" },
  spread: { lines: "M16 7.500v4M14.500 7h3M14.500 12h3" },
  count: { lines: "M15 7.500l1-.8v5.300" },
};

export const RuleIcon = ({ rule }: { rule: string }) => {
  const { below = "", above = "", lines = "", soft = false } = RULES[rule] ?? {};
  return (
    <svg viewBox="0 0 32 19" width="32" height="19" aria-hidden="true" className="rule">
      <path d={A} className={above === A ? "a" : ""} />
      <path d={B} className={above === B ? "b" : ""} />
      {below && !soft && <path d={above} className={above === A ? "a" : "b"} />}
      {soft && <path d="M13 6h6v7h-6z" className={styles.soft} />}
      <path d={lines} className="w" />
    </svg>
  );
};
