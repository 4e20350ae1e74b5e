import { useEffect, useMemo, useRef, useState } from "react";
import type { Suspect } from "../api/client";
import { isOpen, useJobs, useMe, useStart } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { many, num, percent } from "../desk/format";
import { type SuspectPlace, useOverlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { useKeys } from "../desk/useKeys";
import type { Line } from "../map/shapes";
import { has } from "../stages/useRole";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Card } from "../ui/Radio";
import { Cross } from "./Cross";
import type { KeepOutContent, PatchContent } from "./operators";
import { useMend } from "./state";
import styles from "./suspects.module.css";
import { useMended, useMendedStack, useRuler } from "./useMended";
import { freshName } from "./useStack";
import { PAGE, useFoundOnAll, useSuspects } from "./useSuspects";

const NONE = "none";
const VIEW = "view";
const KINDS: Record<Suspect["kind"], string> = {
  spike: "spikes",
  pit: "pits",
  step: "steps",
  water: "on water",
  trees: "trees",
  hole: "holes",
};
const SHORTEST = 60; // metres around a suspect that the map shows at least

/** How high it is, and how large. */
function figures({ kind, height, cells, length }: Suspect): string {
  const sign = height > 0 ? "+" : "−";
  const tall = `${num(Math.abs(height), 1)} m`;
  if (kind === "step") return `${tall}, ${num(length)} m long`;
  if (kind === "hole") return `rim ${tall}, ${many(cells)} cells`;
  return `${sign}${tall}, ${many(cells)} ${cells === 1 ? "cell" : "cells"}`;
}

function SuspectCard(props: {
  suspect: Suspect;
  number: number;
  here: boolean;
  canMend: boolean;
  onGo: () => void;
  onMend: () => void;
  onReal: () => void;
}) {
  const { suspect, number, here, canMend, onGo, onMend, onReal } = props;
  return (
    <li className={styles.suspect} data-here={here} title={suspect.why}>
      <button type="button" className={styles.shot} aria-label={`Go to suspect ${number}`} onClick={onGo}>
        <img src={`data:image/png;base64,${suspect.png}`} alt="" />
        <b className="n">{number}</b>
      </button>
      <div>
        <b>{suspect.title}</b>
        <span className={styles.figures}>{figures(suspect)}</span>
        <Cross
          before={suspect.before}
          after={suspect.after}
          size={[118, 40]}
          label="Across it, before and as proposed"
        />
      </div>
      {canMend && (
        <p className={styles.acts}>
          <Button kind="small" onClick={onMend}>
            Mend
          </Button>
          <Button kind="small" onClick={onReal}>
            It is real
          </Button>
        </p>
      )}
    </li>
  );
}

/** Finds the suspects of every cell as a job; they are kept as features. */
function OnEveryCell({ waters }: { waters: number | null }) {
  const project = useProject();
  const surface = useMended();
  const start = useStart(project.id);
  const { data: jobs = [] } = useJobs(project.id);
  const [begun, setBegun] = useState<string | null>(null);
  const job = jobs.find((one) => one.id === begun);
  const running = start.isPending || (job && isOpen(job));
  return (
    <>
      <Button
        kind="link"
        disabled={running}
        onClick={() =>
          start.mutate(
            {
              path: "/runs",
              body: {
                operation: "suspects",
                params: {},
                inputs: { surface: surface?.id, ...(waters === null ? {} : { waters: [waters] }) },
                name: `Suspects of ${surface?.name}`.slice(0, 110),
              },
            },
            { onSuccess: ({ job: made }) => setBegun(made?.id ?? null) },
          )
        }
      >
        {running ? `Looking, ${percent(job?.progress ?? 0)}` : "Find on every cell"}
      </Button>
      {(start.error || job?.state === "failed") && (
        <span className="err" role="alert">
          {start.error?.message ?? job?.message}
        </span>
      )}
    </>
  );
}

/** What is probably wrong with the surface, worst first, each with its picture, its profile and a repair. */
export function SuspectsTab() {
  const project = useProject();
  const { features } = useHeld();
  const me = useMe().data;
  const { perMetre } = useRuler();
  const { change, refused } = useMendedStack();
  const index = useMend((mend) => mend.suspect);
  const set = useMend((mend) => mend.set);
  const everywhere = useFoundOnAll();
  const lakes = features.filter((one) => has(one, "polygons") && one.recipe?.operation !== "suspects");
  const [where, setWhere] = useState(VIEW);
  const [water, setWater] = useState(NONE);
  const [kind, setKind] = useState("");
  const [first, setFirst] = useState(0);
  const found = everywhere.find((one) => String(one.id) === where)?.id ?? null;
  const waters = lakes.find((one) => String(one.id) === water)?.id ?? null;
  const { data, error, isFetching } = useSuspects({ found, waters, kind, first });
  const listed = data?.suspects ?? [];
  const shown = kind ? ((data?.counts as Record<string, number> | undefined)?.[kind] ?? 0) : (data?.total ?? 0);
  const canMend = project.role !== "viewer";
  const at = index !== null && index < listed.length ? index : null;

  // another list begins at its worst
  const list = `${where} ${water} ${kind}`;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another list is the point
  useEffect(() => {
    setFirst(0);
    set({ suspect: null });
  }, [list, set]);
  useEffect(() => () => set({ suspect: null }), [set]);
  // what was repaired is gone from the list, and the next has its number
  useEffect(() => {
    if (data && index !== null && index >= data.suspects.length)
      set({ suspect: data.suspects.length ? data.suspects.length - 1 : null });
  }, [data, index, set]);

  const go = (next: number) => {
    const one = listed[next];
    if (!one) return;
    set({ suspect: next });
    useDesk.getState().set({
      bench: "map",
      goTo: {
        x: one.x,
        y: one.y,
        ...(found === null ? {} : { resolution: (Math.max(one.length * 4, SHORTEST) * perMetre) / 800 }),
      },
    });
  };
  const step = (by: number) => {
    if (at === null) return go(0);
    const next = at + by;
    if (next >= 0 && next < listed.length) go(next);
    else if (by > 0 && first + PAGE < shown) {
      setFirst(first + PAGE);
      set({ suspect: 0 });
    } else if (by < 0 && first > 0) {
      setFirst(first - PAGE);
      set({ suspect: PAGE - 1 });
    }
  };
  const mend = (some: Suspect[]) => {
    moving.current = true;
    change(some.map(({ patch }) => ({ name: freshName(), kind: "patch", content: patch as unknown as PatchContent })));
  };
  const real = (one: Suspect) => {
    moving.current = true;
    const initials = me?.initials;
    const content: KeepOutContent = {
      name: `${one.title}, real${initials && `, ${initials}`}`,
      ring: one.ring as Line,
      line: null,
      width: 10,
      real: true,
    };
    change([{ name: freshName(), kind: "keep_out", content }]);
  };
  // the next one is looked at as soon as the list is without the one before
  const moving = useRef(false);
  const goOn = useRef(go);
  goOn.current = go;
  useEffect(() => {
    if (!moving.current || !data) return;
    moving.current = false;
    const { suspect } = useMend.getState();
    if (suspect !== null && data.suspects.length) goOn.current(Math.min(suspect, data.suspects.length - 1));
  }, [data]);
  const current = at === null ? undefined : listed[at];
  useKeys({
    j: () => step(1),
    k: () => step(-1),
    enter: canMend && current ? () => mend([current]) : undefined,
    r: canMend && current ? () => real(current) : undefined,
  });

  const places = useMemo(
    () =>
      data?.suspects.length
        ? data.suspects.map(
            ({ x, y }, i): SuspectPlace => ({
              number: first + i + 1,
              at: [x, y],
              here: i === index,
              press: () => set({ suspect: i }),
            }),
          )
        : null,
    [data, first, index, set],
  );
  useOverlay("suspects", places);

  const counts = Object.entries((data?.counts ?? {}) as Record<Suspect["kind"], number>);
  const all = counts.reduce((sum, [, count]) => sum + count, 0);
  return (
    <div className={styles.suspects} aria-busy={isFetching}>
      <div className={styles.filters}>
        <Choice
          label="Where"
          value={where}
          options={[
            { value: VIEW, title: "this view" },
            ...everywhere.map((one) => ({ value: String(one.id), title: one.name })),
          ]}
          onChange={setWhere}
        />
        {lakes.length > 0 && (
          <Choice
            label="Lakes"
            value={water}
            options={[
              { value: NONE, title: "none" },
              ...lakes.map((one) => ({ value: String(one.id), title: one.name })),
            ]}
            onChange={setWater}
          />
        )}
        <span className={styles.kinds} role="radiogroup" aria-label="Kind">
          {[["", all] as [string, number], ...counts].map(([name, count]) => (
            <Card
              key={name}
              className={styles.kind as string}
              group="suspect-kind"
              checked={kind === name}
              onChoose={() => setKind(name)}
            >
              {name ? KINDS[name as Suspect["kind"]] : "all"} <span className="n">{many(count)}</span>
            </Card>
          ))}
        </span>
        {canMend && <OnEveryCell waters={waters} />}
        {canMend && listed.length > 1 && kind && (
          <Button kind="link" onClick={() => mend(listed)}>
            Mend these {many(listed.length)}
          </Button>
        )}
        {shown > PAGE && (
          <span className={styles.pages}>
            <Button kind="link" disabled={first === 0} onClick={() => setFirst(first - PAGE)}>
              Before
            </Button>
            <span className="n">
              {many(first + 1)} to {many(Math.min(first + PAGE, shown))} of {many(shown)}
            </span>
            <Button kind="link" disabled={first + PAGE >= shown} onClick={() => setFirst(first + PAGE)}>
              After
            </Button>
          </span>
        )}
      </div>
      {refused && (
        <p className="fail" role="alert">
          {refused}
        </p>
      )}
      {error ? (
        <p className="empties" role="alert">
          {error.message}
        </p>
      ) : !data ? (
        <p className="empties">Looking through the view…</p>
      ) : listed.length === 0 ? (
        <p className="empties">Nothing here is suspect{found === null ? " in this view" : ""}.</p>
      ) : (
        <ol className={styles.cards} aria-label="Suspects, worst first">
          {listed.map((one, i) => (
            <SuspectCard
              key={`${one.kind}${one.x},${one.y}`}
              suspect={one}
              number={first + i + 1}
              here={i === at}
              canMend={canMend}
              onGo={() => go(i)}
              onMend={() => mend([one])}
              onReal={() => real(one)}
            />
          ))}
        </ol>
      )}
    </div>
  );
}

/** The tab that stands in the strip while a surface is mended. */
export const SUSPECTS_TAB = {
  title: "Suspects",
  hint: "Worst first. J and K go through them, Enter takes the repair, R says that it is real.",
  Body: SuspectsTab,
};
