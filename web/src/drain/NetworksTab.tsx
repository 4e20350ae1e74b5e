import type { Network } from "../api/client";
import { useHeld, useProject } from "../desk/context";
import { num } from "../desk/format";
import { type OwnTab, ownTab } from "../desk/ownTab";
import { useDesk } from "../desk/store";
import { useSettled } from "../desk/useSettled";
import { Button } from "../ui/Button";
import { Refusal } from "../ui/Refusal";
import styles from "./networks.module.css";
import { OrdersChart } from "./OrdersChart";
import { type Slot, useDrainState } from "./state";
import { useAgainst, useFigures, useKept } from "./useNetworks";
import { hectares, hollowsOf, kilometres, markOf, square } from "./words";

const PAUSE = 250; // milliseconds that a threshold stays before figures are asked for at it
const GONE = "a surface that was deleted";
const share = (value: number) => `${num(100 * value)} %`;

function Bars({ found, near }: { found: number; near: number }) {
  return (
    <span className={styles.bars} role="img" aria-label={`${share(found)} of the reference, ${share(near)} of its own`}>
      {[found, near].map((value, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: one is the reference's, the other its own
        <i key={i}>
          <span style={{ width: share(value) }} />
        </i>
      ))}
    </span>
  );
}

interface RowOf {
  content: Network;
  slot: Slot | null;
  /** The number under which it is kept; null where it is not. */
  kept: number | null;
}

/** Networks beside each other: what is looked at, and what was kept, with the figures of each. */
export function NetworksTab() {
  const project = useProject();
  const { all, surfaces } = useHeld();
  const { looked, set } = useDrainState();
  const against = useAgainst();
  const { reference, within, outlet } = against;
  const { kept, keep, remove, work, refused } = useKept();
  const desk = useDesk((state) => state.sheet);
  const put = useDesk((state) => state.put);
  const shown = useSettled(looked, PAUSE);
  const canKeep = project.role !== "viewer";
  const marks = new Map(kept.map((one) => [markOf(one.content), one.id]));
  const lookedAt = new Set(shown.map((one) => markOf(one.content)));
  const rows: RowOf[] = [
    ...shown.map((one) => ({ ...one, kept: marks.get(markOf(one.content)) ?? null })),
    ...kept
      .filter((one) => !lookedAt.has(markOf(one.content)))
      .map((one) => ({ content: one.content, slot: null, kept: one.id })),
  ];
  const figures = useFigures(
    rows.map((row) => row.content),
    against,
  );
  if (!rows.length) return <p className="remark">Put a surface of heights in A: its streams stand here.</p>;
  const titleOf = (id: number | null | undefined) => all.find((one) => one.id === id)?.name;
  const lookAt = (content: Network, slot: "a" | "b") => {
    const { surface, kept: lakes, burned, waters_at, ...params } = content;
    const holding = surfaces.find((one) => one.id === surface);
    if (holding) put(slot, holding.key);
    if (slot === "b") return set({ beside: content });
    const inputs = {
      surface,
      ...(lakes == null ? {} : { kept: [lakes] }),
      ...(burned == null ? {} : { burned: [burned] }),
    };
    desk("streams", { inputs, params });
  };
  const drawn = rows.flatMap(({ slot }, i) => {
    const found = figures[i]?.data;
    return slot && found?.known ? [{ slot, figures: found }] : [];
  });
  const at = outlet?.name;
  return (
    <div className={styles.networks}>
      <div className={styles.rows}>
        {refused && <Refusal sentence={refused} />}
        <table className="t tight" aria-label="Networks">
          <thead>
            <tr>
              <th aria-label="Looked at in" />
              <th className="w">Surface</th>
              <th className="w">hollows</th>
              <th className="w">burned in</th>
              <th>from</th>
              <th>length</th>
              <th>orders</th>
              {reference !== null && (
                <>
                  <th className={styles.wide} title={`Of the length of ${titleOf(reference)}`}>
                    reference within {num(within)} m
                  </th>
                  <th className={styles.wide}>its own within {num(within)} m</th>
                  <th aria-label="Both, from 0 to 100 %" />
                  <th>mean distance</th>
                </>
              )}
              {at && <th className={styles.wide}>catchment at {at}</th>}
              <th aria-label="Keep or remove" />
            </tr>
          </thead>
          <tbody>
            {rows.map(({ content, slot, kept: id }, i) => {
              const { data, error } = figures[i] ?? {};
              const holding = titleOf(content.surface);
              const of = data?.known ? data : null;
              return (
                <tr key={`${slot} ${id}`} data-slot={slot ?? undefined}>
                  <td>
                    <span className={styles.slots}>
                      {(["a", "b"] as const).map((one) => (
                        <Button
                          key={one}
                          kind="bare"
                          data-slot={one}
                          aria-pressed={slot === one}
                          aria-label={`${one.toUpperCase()}: ${holding ?? GONE}, ${hollowsOf(content)}`}
                          title={one === "a" ? "Look at it in A" : "Look at it in B, beside A"}
                          disabled={!holding || slot === one}
                          onClick={() => lookAt(content, one)}
                        >
                          {one.toUpperCase()}
                        </Button>
                      ))}
                    </span>
                  </td>
                  <td className={`w ${styles.name}`} title={holding}>
                    {holding ?? GONE}
                  </td>
                  <td className="w">{hollowsOf(content)}</td>
                  <td className="w">
                    {content.burned == null ? "none" : (titleOf(content.burned) ?? "deleted lines")}
                  </td>
                  <td>
                    <span className="n">{hectares(content.begins_at ?? 5)}</span> ha
                    {content.heads === "slope" && " by slope"}
                  </td>
                  {of ? (
                    <>
                      <td>
                        <span className="n">{kilometres(of.length ?? 0)}</span> km
                      </td>
                      <td className="n">
                        {(of.orders?.length ?? 0) > 1 ? `1–${of.orders?.length}` : (of.orders?.length ?? "–")}
                      </td>
                      {reference !== null && (
                        <>
                          <td className="n">{of.found == null ? "–" : share(of.found)}</td>
                          <td className="n">{of.own_near == null ? "–" : share(of.own_near)}</td>
                          <td className="w">
                            {of.found != null && of.own_near != null && <Bars found={of.found} near={of.own_near} />}
                          </td>
                          <td>
                            <span className="n">{num(of.mean, 1)}</span> m
                          </td>
                        </>
                      )}
                      {at && (
                        <td title={of.reason}>
                          {of.catchment == null ? (
                            "–"
                          ) : (
                            <>
                              <span className="n">{square(of.catchment)}</span> km²
                            </>
                          )}
                        </td>
                      )}
                    </>
                  ) : (
                    <td className="w" colSpan={2 + (reference === null ? 0 : 4) + (at ? 1 : 0)}>
                      {error ? (
                        <span role="alert">{error.message}</span>
                      ) : data?.known === false ? (
                        <>
                          Water was not worked out for it, or longer ago.{" "}
                          {canKeep && holding && (
                            <Button kind="link" onClick={() => work(content)}>
                              Work it out
                            </Button>
                          )}
                        </>
                      ) : (
                        <span className="mut">…</span>
                      )}
                    </td>
                  )}
                  <td>
                    {canKeep &&
                      (id === null ? (
                        <Button
                          kind="link"
                          aria-label={`Keep ${slot === "b" ? "B" : "A"} as a network`}
                          title="Keeps it in this list, to hold others against it"
                          onClick={() => keep({ ...content, against })}
                        >
                          Keep
                        </Button>
                      ) : (
                        <Button
                          kind="link"
                          aria-label={`Remove ${holding ?? GONE}, ${hollowsOf(content)}`}
                          title="Removes it from this list"
                          onClick={() => remove(id)}
                        >
                          ×
                        </Button>
                      ))}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      <OrdersChart of={drawn} />
    </div>
  );
}

export const NETWORKS: OwnTab = {
  title: "Networks",
  hint: "Keep one to hold others against it: another surface, other hollows, another threshold.",
  Body: NetworksTab,
};
export const NETWORKS_TAB = ownTab(NETWORKS.title);
