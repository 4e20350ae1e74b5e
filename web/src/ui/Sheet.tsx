import type { ReactNode } from "react";
import { type Stage, useDesk } from "../desk/store";
import { Button } from "./Button";
import styles from "./sheet.module.css";

interface Props {
  stage: Stage;
  title: string;
  lead?: ReactNode;
  foot?: ReactNode;
  children: ReactNode;
}

/** A worksheet's frame: title, way back, and a foot that stays in sight while the rest scrolls. */
export function Sheet({ stage, title, lead, foot, children }: Props) {
  const open = useDesk((desk) => desk.open);
  return (
    <>
      <header>
        <h1>{title}</h1>
        <Button kind="bare" className={styles.back} onClick={() => open(stage)}>
          <svg viewBox="0 0 6 9" width="6" height="9" aria-hidden="true">
            <path d="M5 1 1.500 4.500 5 8" />
          </svg>
          All in {stage}
        </Button>
      </header>
      {lead && <p className={styles.lead}>{lead}</p>}
      <div className="scroll">{children}</div>
      {foot && <div className="run">{foot}</div>}
    </>
  );
}

/** A part of a worksheet under a heading. `aside` is a word or a figure at its end. */
export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="sec">
      <h2>
        {title}
        {aside && <small>{aside}</small>}
      </h2>
      {children}
    </section>
  );
}
