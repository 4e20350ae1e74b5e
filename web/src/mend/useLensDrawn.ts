import { useMemo } from "react";
import type { Holding } from "../api/client";
import { type Drawn, drawnBackdrop } from "../map/useSurfaces";

/** What the lens shows: an image, both in turn or one over the other, or a picture that lies on the map. */
export type LensLook = "left" | "right" | "blink" | "fade" | "backdrop";

/** What both images look like through a surface. */
export interface Seen {
  left: string | null;
  right: string | null;
}

/** A picture that was kept, and what it was made through. */
export interface Kept extends Seen {
  told: string;
}

const layer = (id: string, key: string | null, from: number, to: number, more: Partial<Drawn> = {}): Drawn[] =>
  key ? [{ id, key, quantity: "grey", coarse: false, from, to, steady: true, ...more }] : [];

/** The layers of the lens, of which those that are not seen now stay loaded. */
export function useLensDrawn(asked: {
  shown: LensLook;
  /** Whether the right image is seen while both are in turn. */
  second: boolean;
  /** How much of the right image is seen over the left one. */
  fade: number;
  /** As far as that share of the width the kept picture is seen. */
  wipe: number;
  kept: Kept | null;
  now: Seen;
  /** So many times as many cells along each side as the frame has. */
  finer: number;
  backdrop: Holding | undefined;
}): Drawn[] {
  const { shown, second, fade, wipe, kept, finer, backdrop } = asked;
  const { left, right } = asked.now;
  return useMemo(() => {
    const hide = (all: Drawn[]) => all.map((one) => ({ ...one, to: one.from }));
    const of = (side: "left" | "right", ortho: string | null, opacity = 1) => [
      ...layer(`kept-${side}`, kept?.[side] ?? null, 0, wipe, { opacity, finer }),
      ...layer(side, ortho, kept ? wipe : 0, 1, { opacity, finer }),
    ];
    const under = of("left", left);
    const over = of("right", right, shown === "fade" ? fade : 1);
    if (shown === "backdrop" && backdrop)
      return [
        ...hide(under),
        ...hide(over),
        ...(backdrop.kind === "surface"
          ? layer(`lens${backdrop.id}`, backdrop.key, 0, 1)
          : [drawnBackdrop({ id: backdrop.id, over: true, opacity: 1 })]),
      ];
    if (shown === "fade") return [...under, ...over];
    return second ? [...hide(under), ...over] : [...under, ...hide(over)];
  }, [left, right, kept, wipe, second, shown, fade, finer, backdrop]);
}
