import type { BriefAnswers } from "../api/client";
import { useProject } from "../desk/context";
import { num } from "../desk/format";
import { useDesk } from "../desk/store";
import { useRuler } from "../mend/useMended";
import { Button } from "../ui/Button";
import { Section } from "../ui/Sheet";
import styles from "./brief.module.css";
import { useAnswers, useBrief } from "./useBrief";

type Answer = BriefAnswers["answers"][number];

/** Where a surface is mended that does not meet a demand, by the demand's kind. */
const MENDED: Record<string, { title: string; stage: "Join" | "Mend"; sheet: string }> = {
  holes: { title: "Fill holes", stage: "Join", sheet: "fill_voids" },
  level: { title: "Mend it", stage: "Mend", sheet: "mend" },
  falling: { title: "Mend it", stage: "Mend", sheet: "mend" },
};
const CLOSE = 2.5; // metres of ground to a pixel of the map where one is led to

const wordOf = (answer: Answer) =>
  answer === null ? "not known yet" : answer.met === null ? "not told" : answer.met ? "met" : "not met";

/** Filled with a tick where it is met, a cross in a ring where it is not, a broken ring where that is not known. */
const MetIcon = ({ met }: { met: boolean | null }) => (
  <svg viewBox="0 0 14 14" width="14" height="14" aria-hidden="true">
    {met === true && (
      <>
        <circle cx="7" cy="7" r="6.3" fill="var(--moss)" />
        <path d="M4 7.200 6.200 9.400 10.200 5" fill="none" stroke="#fff" strokeWidth="1.6" />
      </>
    )}
    {met === false && (
      <>
        <circle cx="7" cy="7" r="5.8" fill="none" stroke="var(--oxblood)" strokeWidth="1.5" />
        <path d="M4.800 4.800l4.400 4.400M9.200 4.800 4.800 9.200" stroke="var(--oxblood)" strokeWidth="1.5" />
      </>
    )}
    {met === null && (
      <circle cx="7" cy="7" r="5.8" fill="none" stroke="var(--muted)" strokeWidth="1.3" strokeDasharray="1.900 1.900" />
    )}
  </svg>
);

/** What the brief asks of the surface in A, and whether it is that. */
export function BriefMet({ editing }: { editing?: boolean }) {
  const project = useProject();
  const { demands } = useBrief();
  const { judged, answers, running, failed, again } = useAnswers();
  const set = useDesk((desk) => desk.set);
  const open = useDesk((desk) => desk.open);
  const { perMetre } = useRuler();
  if (!demands.length)
    return editing ? null : (
      <Section title="The brief">
        <p className="mut small-print">
          Nothing is asked of this project's surfaces yet.{" "}
          <Button kind="link" onClick={() => open("Judge", "brief")}>
            Write the brief
          </Button>
        </p>
      </Section>
    );
  if (!judged)
    return (
      <Section title="The brief">
        <p className="mut small-print">
          {num(demands.length)} {demands.length === 1 ? "demand" : "demands"}. Put a surface of heights in A to hold it
          against them.
        </p>
      </Section>
    );
  const told = answers?.answers ?? demands.map(() => null);
  const met = told.filter((one) => one?.met).length;
  return (
    <Section
      title={`The brief asks of A, ${judged.name}`}
      aside={
        <span role="status">
          {answers ? (
            <>
              <span className="n">{num(met)}</span> of <span className="n">{num(demands.length)}</span> met
            </>
          ) : (
            "…"
          )}
        </span>
      }
    >
      <ul className={styles.met} aria-label="Demands">
        {demands.map(({ title, content }, i) => {
          const one = told[i] ?? null;
          const way = one?.met === false ? MENDED[content.kind as string] : undefined;
          return (
            <li key={title}>
              <MetIcon met={one ? one.met : null} />
              <span>{title}</span>
              <span data-met={one?.met}>{wordOf(one)}</span>
              <b className={`n ${one?.met === false ? styles.missed : ""}`}>{one?.shown}</b>
              {one && (one.told || one.at || way) && (
                <p>
                  {one.told}{" "}
                  {one.at && (
                    <Button
                      kind="link"
                      aria-label={`Go there: ${title}`}
                      onClick={() =>
                        one.at &&
                        set({ bench: "map", goTo: { x: one.at[0], y: one.at[1], resolution: CLOSE * perMetre } })
                      }
                    >
                      Go there
                    </Button>
                  )}{" "}
                  {way && project.role !== "viewer" && (
                    <Button kind="link" onClick={() => open(way.stage, way.sheet)}>
                      {way.title}
                    </Button>
                  )}
                </p>
              )}
            </li>
          );
        })}
      </ul>
      {told.includes(null) && (
        <p className="mut small-print" role="status">
          {running ? (
            "Reading its cells …"
          ) : project.role === "viewer" ? (
            "Not worked out yet: an editor of this project must look at it first."
          ) : failed ? (
            <>
              {failed}{" "}
              <Button kind="link" onClick={again}>
                Try again
              </Button>
            </>
          ) : null}
        </p>
      )}
      {answers && answers.statement.length > 0 && editing && (
        <div className={styles.statement}>
          {answers.statement.map((one) => (
            <p key={one}>{one}</p>
          ))}
        </div>
      )}
      {!editing && (
        <p className="small-print">
          <Button kind="link" onClick={() => open("Judge", "brief")}>
            {project.role === "viewer" ? "Look at the brief" : "Change the brief"}
          </Button>
        </p>
      )}
    </Section>
  );
}
