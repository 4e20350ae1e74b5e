import { useLayoutEffect, useRef, useState } from "react";
import type { Holding } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { useHeld } from "../../context";
import { num } from "../../format";
import type { Source } from "../../products";
import { useDesk } from "../../store";
import { foldedOf, listed } from "./list";
import { SourceCard } from "./SourceCard";
import { SurfaceCard } from "./SurfaceCard";
import styles from "./surfaces.module.css";

const WIDE = 209; // pixels of a card and the gap beside it
const AROUND = 6; // cards that are drawn before and after those in sight
const AT_FIRST = 24;

type Item = { key: string; holding: Holding } | { key: string; source: Source };

/** Which of many cards in a row are in sight, as the first and the last but one. */
function useInSight(count: number) {
  const row = useRef<HTMLDivElement>(null);
  const [[first, last], setSight] = useState([0, AT_FIRST]);
  useLayoutEffect(() => {
    const body = row.current?.parentElement;
    if (!body) return;
    const look = () => {
      if (!body.clientWidth) return;
      const from = Math.max(Math.floor(body.scrollLeft / WIDE) - AROUND, 0);
      const to = Math.ceil((body.scrollLeft + body.clientWidth) / WIDE) + AROUND;
      setSight((sight) => (sight[0] === from && sight[1] === to ? sight : [from, to]));
    };
    look();
    body.addEventListener("scroll", look, { passive: true });
    window.addEventListener("resize", look);
    return () => {
      body.removeEventListener("scroll", look);
      window.removeEventListener("resize", look);
    };
  }, []);
  return { row, first: Math.min(first ?? 0, Math.max(count - 1, 0)), last: Math.min(last ?? AT_FIRST, count) };
}

/** The surfaces as shaded pictures; the tiles of a product as one, which opens. */
export function SurfacesTab() {
  const { surfaces, isLoading } = useHeld();
  const [opened, setOpened] = useState<string[]>([]);
  const slots = useDesk((desk) => desk.slots);
  const sift = useDesk((desk) => desk.sift);
  const order = useDesk((desk) => desk.surfaceOrder);
  const folded = useDesk((desk) => desk.foldedAway);
  const set = useDesk((desk) => desk.set);
  const looked = [slots.a, slots.b];
  const sources = listed(surfaces, { ...sift, order, folded, looked });
  const items = sources.flatMap((source): Item[] => {
    const { holdings, name } = source;
    const cards = holdings.map((holding) => ({ key: String(holding.id), holding }));
    if (cards.length === 1) return cards;
    const tiles = `tiles ${name}`;
    // what is found by its name or looked at is not hidden in a product
    const open = opened.includes(tiles) || sift.text !== "";
    const seen = open ? cards : cards.filter(({ holding }) => looked.includes(holding.key));
    return [{ key: tiles, source }, ...seen];
  });
  const { row, first, last } = useInSight(items.length);
  if (isLoading) return null;
  if (!surfaces.length)
    return <p className="empties">No surface yet. Surfaces you add or make stand here as small shaded pictures.</p>;
  const away = foldedOf(surfaces, { folded, looked });
  return (
    <div className={styles.cards} ref={row}>
      {first > 0 && <span className={styles.spacer} style={{ width: first * WIDE - 6 }} />}
      {items
        .slice(first, last)
        .map((item) =>
          "holding" in item ? (
            <SurfaceCard key={item.key} holding={item.holding} />
          ) : (
            <SourceCard
              key={item.key}
              source={item.source}
              open={opened.includes(item.key) || sift.text !== ""}
              onOpen={() =>
                setOpened(opened.includes(item.key) ? opened.filter((one) => one !== item.key) : [...opened, item.key])
              }
            />
          ),
        )}
      {last < items.length && <span className={styles.spacer} style={{ width: (items.length - last) * WIDE - 6 }} />}
      {!items.length && (
        <p className={styles.none}>
          No surface is {sift.text ? `called “${sift.text.trim()}”` : "of this kind"}.{" "}
          <Button kind="link" onClick={() => set({ sift: { text: "", kind: "all" } })}>
            Show all
          </Button>
        </p>
      )}
      {sift.kind === "all" && !sift.text && away > 0 && (
        <Button kind="link" onClick={() => set({ sift: { ...sift, kind: "folded" } })}>
          Show {num(away)} folded away
        </Button>
      )}
    </div>
  );
}
