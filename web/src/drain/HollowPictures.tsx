import type { ReactNode } from "react";
import styles from "./pictures.module.css";

const GROUND = "M0 9 C10 9 14 12 19 21 C23 28 33 28 37 20 C40 14 46 12 50 14 C54 16 58 25 66 27 L72 28";
const FILLED = "M0 9 C10 9 13 11 16 15 L44 14 C46 12.500 48 13 50 14 C54 16 58 25 66 27 L72 28";
const WATER = "M16 15 C18 18 21 26 28 26 C35 26 38 17 44 14 Z";
const CUT = "M0 9 C10 9 14 12 19 21 C22 26 26 26 30 26 L66 27 L72 28";
const BANK = "M30 26 C34 26 36 22 37 20 C40 14 46 12 50 14 C54 16 58 25 64 27 Z";
const BOTH = "M0 9 C10 9 14 12 17 17 L40 19 L56 21 C59 24 62 26 66 27 L72 28";
const BELOW = "M17 17 C21 24 24 26 28 26 C33 26 36 22 38 19 Z";
const ABOVE = "M40 19 C41 14 46 12 50 14 C52 15 54 18 56 21 Z";

const Drawn = ({ children }: { children: ReactNode }) => (
  <svg viewBox="0 0 72 34" className={styles.picture} aria-hidden="true">
    {children}
  </svg>
);

/** What becomes of a hollow: ground before, dashed, and after, with what is added and what is cut away. */
export const HOLLOW_PICTURES: Record<string, ReactNode> = {
  leave: (
    <Drawn>
      <path className={styles.water} d="M21 22.500 C24 27 32 27 35 22.500 Z" />
      <path className={styles.ground} d={GROUND} />
    </Drawn>
  ),
  fill: (
    <Drawn>
      <path className={styles.added} d={WATER} />
      <path className={styles.before} d={GROUND} />
      <path className={styles.ground} d={FILLED} />
    </Drawn>
  ),
  breach: (
    <Drawn>
      <path className={styles.cut} d={BANK} />
      <path className={styles.before} d={GROUND} />
      <path className={styles.ground} d={CUT} />
    </Drawn>
  ),
  lesser: (
    <Drawn>
      <path className={styles.added} d={BELOW} />
      <path className={styles.cut} d={ABOVE} />
      <path className={styles.before} d={GROUND} />
      <path className={styles.ground} d={BOTH} />
    </Drawn>
  ),
};
