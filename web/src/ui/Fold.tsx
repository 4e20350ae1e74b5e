import { ButtonBase } from "@mui/material";
import { type ReactNode, useId } from "react";
import styles from "./Fold.module.css";

/** How far a part of the work is: settled, settled with something to look at, or not begun. */
export type Sign = "settled" | "caution" | "open";

const WORDS: Record<Sign, string> = { settled: "settled", caution: "with a caution", open: "not begun" };

const SignIcon = ({ sign }: { sign: Sign }) => (
  <svg viewBox="0 0 14 14" width="14" height="14" role="img" aria-label={WORDS[sign]}>
    {sign === "settled" && (
      <>
        <circle cx="7" cy="7" r="6" fill="var(--moss)" />
        <path d="M4.2 7.2 6.2 9.2 9.9 5.2" fill="none" stroke="#fff" strokeWidth="1.5" />
      </>
    )}
    {sign === "caution" && (
      <>
        <circle cx="7" cy="7" r="5.3" fill="none" stroke="var(--ochre)" strokeWidth="1.4" />
        <path d="M7 1.700a5.3 5.3 0 0 1 0 10.600z" fill="var(--ochre)" />
      </>
    )}
    {sign === "open" && (
      <circle cx="7" cy="7" r="5.3" fill="none" stroke="var(--muted)" strokeWidth="1.3" strokeDasharray="1.7 1.7" />
    )}
  </svg>
);

interface Props {
  title: string;
  aside?: ReactNode;
  /** What is said of it while it is folded. */
  told?: ReactNode;
  sign: Sign;
  open: boolean;
  onOpen: (open: boolean) => void;
  children: ReactNode;
}

/** A part of a worksheet that folds to a line or two, with a sign of how far it is. */
export function Fold({ title, aside, told, sign, open, onOpen, children }: Props) {
  const id = useId();
  return (
    <section className={`${styles.fold} ${open ? styles.open : ""}`} aria-label={title}>
      <ButtonBase className={styles.head} aria-expanded={open} aria-controls={id} onClick={() => onOpen(!open)}>
        <SignIcon sign={sign} />
        <b>{title}</b>
        <small>{aside}</small>
        <svg viewBox="0 0 8 5" width="8" height="5" aria-hidden="true">
          <path d="M1 1l3 3 3-3" />
        </svg>
        {!open && told && <span className={styles.told}>{told}</span>}
      </ButtonBase>
      <div id={id} className={styles.body} hidden={!open}>
        {open && children}
      </div>
    </section>
  );
}
