import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Hollow } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { areaOf, num, percent } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import { type OwnTab, ownTab } from "../desk/ownTab";
import { useDesk } from "../desk/store";
import { newPatch, usualOperator } from "../mend/operators";
import { useMend } from "../mend/state";
import { freshName } from "../mend/useStack";
import { Button } from "../ui/Button";
import { Refusal } from "../ui/Refusal";
import styles from "./hollows.module.css";
import { useDrainState } from "./state";
import { drainedOf } from "./useDrained";
import { PAGE, useHollows, useSaid } from "./useHollows";
import { cubic } from "./words";

type Kind = Hollow["kind"];
const KINDS: [Kind, string][] = [
  ["water", "water"],
  ["error", "error in the data"],
  ["culvert", "behind a bank"],
  ["open", "not known"],
];
const INK: Record<Kind, string> = { water: "#1D4752", error: "#9C2B2B", culvert: "#8A5A00", open: "#5E6A70" };

/** Begins a patch over a hollow, from its rim across, and opens Mend with it. */
function useMendIt() {
  const project = useProject();
  const client = useQueryClient();
  const sheet = useDesk((desk) => desk.sheet);
  const open = useDesk((desk) => desk.open);
  return useMutation({
    mutationFn: async ({ surface, hollow }: { surface: number; hollow: Hollow }) => {
      const ring = (hollow.rings[0] ?? []).slice(0, -1);
      const patch = newPatch({ ring }, usualOperator("across"));
      const content = { ...patch, name: `Hollow ${hollow.number}`, note: hollow.why };
      const name = freshName();
      const path = `/projects/${project.id}/holdings/${surface}/patches`;
      await call("POST", path, { says: [{ name, kind: "patch", content, seen: null }] });
      return { name, surface };
    },
    onSuccess: ({ name, surface }) => {
      client.invalidateQueries({ queryKey: KEYS.patches(project.id, surface) });
      sheet("mend", { inputs: { surface } });
      useMend.getState().set({ chosen: name });
      open("Mend", "mend");
    },
  });
}

/** The hollows of the surface whose streams are looked at: what each is, by its evidence or because somebody said so. */
export function HollowsTab() {
  const project = useProject();
  const { all } = useHeld();
  const looked = useDrainState((state) => state.looked[0]);
  const [kind, setKind] = useState<Kind | "">("");
  const [first, setFirst] = useState(0);
  const [here, setHere] = useState<number | null>(null);
  const set = useDesk((desk) => desk.set);
  const { list, running, progress, failed, again } = useHollows(looked ? drainedOf(looked.content) : null, kind, first);
  const { say, refused } = useSaid();
  const mend = useMendIt();
  const canSay = project.role !== "viewer";
  const hollows = list?.hollows;
  const surface = looked?.content.surface;
  const go = (one: Hollow) => {
    setHere(one.number);
    const size = Math.sqrt(one.area) * 4;
    set({ bench: "map", goTo: { x: one.x, y: one.y, resolution: Math.max(size / 500, project.frame.cell_size / 4) } });
  };
  useOverlay(
    "inked",
    useMemo(
      () =>
        hollows?.flatMap((one) =>
          one.rings.map((line) => ({ line, ink: INK[one.kind], width: one.number === here ? 3 : 1.6 })),
        ) ?? null,
      [hollows, here],
    ),
  );
  useOverlay(
    "suspects",
    useMemo(
      () =>
        hollows?.map((one) => ({
          number: one.number,
          at: [one.x, one.y] as [number, number],
          here: one.number === here,
          press: () => setHere(one.number),
        })) ?? null,
      [hollows, here],
    ),
  );
  if (!looked) return <p className="remark">Put a surface of heights in A: its hollows stand here.</p>;
  const told = Object.values(list?.counts ?? {}).reduce((sum, one) => sum + one, 0);
  const name = all.find((one) => one.id === surface)?.name ?? "the surface";
  const filter = (next: Kind | "") => {
    setKind(next);
    setFirst(0);
  };
  return (
    <div className={styles.hollows}>
      <div className={styles.filters}>
        {list && (
          <>
            <Button kind="small" aria-pressed={kind === ""} onClick={() => filter("")}>
              all <span className="n">{num(told)}</span>
            </Button>
            {KINDS.map(([one, title]) => (
              <Button key={one} kind="small" aria-pressed={kind === one} onClick={() => filter(one)}>
                <i style={{ background: INK[one] }} />
                {title} <span className="n">{num(list.counts?.[one] ?? 0)}</span>
              </Button>
            ))}
            <span className="mut" role="status">
              {list.cut_short ? `The ${num(told)} that hold most of` : "In"} {name}, from{" "}
              {num(list.least_depth ?? 0.5, 1)} m deep on
            </span>
            {(list.total ?? 0) > PAGE && (
              <span className={styles.pages}>
                <Button
                  kind="small"
                  disabled={first === 0}
                  aria-label="Hollows before"
                  onClick={() => setFirst(first - PAGE)}
                >
                  ‹
                </Button>
                <span className="n">
                  {first + 1}–{Math.min(first + PAGE, list.total ?? 0)} of {num(list.total)}
                </span>
                <Button
                  kind="small"
                  disabled={first + PAGE >= (list.total ?? 0)}
                  aria-label="Hollows after"
                  onClick={() => setFirst(first + PAGE)}
                >
                  ›
                </Button>
              </span>
            )}
          </>
        )}
        {running && (
          <span className="mut" role="status">
            Looking for hollows … {percent(progress)}
          </span>
        )}
      </div>
      {failed && !running && <Refusal sentence={failed} />}
      {failed && !running && canSay && (
        <p className="times">
          <Button kind="link" onClick={again}>
            Try again
          </Button>
        </p>
      )}
      {(refused ?? mend.error?.message) && <Refusal sentence={refused ?? mend.error?.message ?? ""} />}
      {!list && !running && !failed && project.role === "viewer" && (
        <p className="remark">Nobody has looked for hollows yet. Ask an editor to open this list.</p>
      )}
      {hollows?.length === 0 && (
        <p className="remark">{kind ? "None is that." : "No hollow is as deep as that: water finds its way out."}</p>
      )}
      {hollows && hollows.length > 0 && (
        <div className={styles.rows}>
          <table className="t tight" aria-label="Hollows">
            <thead>
              <tr>
                <th aria-label="Number" />
                <th className="w">what it is</th>
                <th>deep</th>
                <th>area</th>
                <th>holds</th>
                <th>runs over at</th>
                <th title="The way on which least must be cut to let its water out">way out</th>
                <th className="w">because</th>
                <th aria-label="What to do" />
              </tr>
            </thead>
            <tbody>
              {hollows.map((one) => (
                <tr key={one.number} aria-current={one.number === here}>
                  <td className="n">{one.number}</td>
                  <td className="w">
                    <i style={{ background: INK[one.kind] }} />
                    <select
                      aria-label={`What hollow ${one.number} is`}
                      value={one.kind}
                      disabled={!canSay}
                      onChange={(event) => say({ x: one.x, y: one.y, kind: event.target.value as Kind })}
                    >
                      {KINDS.map(([value, title]) => (
                        <option key={value} value={value}>
                          {title}
                        </option>
                      ))}
                    </select>
                  </td>
                  <td>
                    <span className="n">{num(one.depth, 1)}</span> m
                  </td>
                  <td className="n">{areaOf(one.area)}</td>
                  <td>{cubic(one.volume)}</td>
                  <td>
                    <span className="n">{num(one.level, 1)}</span> m
                  </td>
                  <td>
                    <span className="n">{one.way == null ? "–" : num(one.way)}</span>
                    {one.way != null && " m"}
                  </td>
                  <td className={`w ${styles.why}`} title={one.why}>
                    {one.why || "Nothing tells."}
                    {one.said && canSay && (
                      <>
                        {" "}
                        <Button
                          kind="link"
                          aria-label={`Take back what was said of hollow ${one.number}`}
                          onClick={() => say({ x: one.x, y: one.y, kind: null })}
                        >
                          Take it back
                        </Button>
                      </>
                    )}
                  </td>
                  <td>
                    <span className="acts">
                      {canSay && surface !== undefined && (
                        <Button
                          kind="link"
                          aria-label={`Mend hollow ${one.number}`}
                          title="Begins a patch over it, from its rim across, under Mend"
                          disabled={mend.isPending}
                          onClick={() => {
                            go(one);
                            mend.mutate({ surface, hollow: one });
                          }}
                        >
                          Mend
                        </Button>
                      )}
                      <Button kind="link" aria-label={`Go to hollow ${one.number}`} onClick={() => go(one)}>
                        Go
                      </Button>
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}

export const HOLLOWS: OwnTab = {
  title: "Hollows",
  hint: "What holds most first. What you say of one is remembered; water that you name stays.",
  Body: HollowsTab,
};
export const HOLLOWS_TAB = ownTab(HOLLOWS.title);
