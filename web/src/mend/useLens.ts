import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Jump, type Looked } from "../api/client";
import { KEYS } from "../api/keys";
import { usePreview } from "../api/queries";
import { inputOf, useHeld, useProject } from "../desk/context";
import type { Line, Place } from "../map/shapes";
import { usePairAsked } from "../pair/usePair";
import { useMended, useRuler } from "./useMended";
import type { AnyEntry } from "./useStack";

/** The images that show the ground of the surface, with the models and the geoid they are seen with. */
export interface Images {
  left: number;
  right: number;
  more: Record<string, number>;
}

const one = (given: number | number[] | undefined) => (Array.isArray(given) ? given[0] : given);

/** The image pair that the surface was made from, else the one that was worked with last; null where there is none. */
export function useImages(): Images | null {
  const { images, all } = useHeld();
  const surface = useMended();
  const asked = usePairAsked();
  return useMemo(() => {
    const ids = surface?.recipe?.operation === "image_pair" ? surface.recipe.input_ids : null;
    const there = (id: number | undefined) => (all.some((held) => held.id === id) ? id : undefined);
    const [left, right] = ids ? [one(ids.left), one(ids.right)] : [asked?.left.id, asked?.right.id];
    if (!images.some(({ id }) => id === left) || !images.some(({ id }) => id === right)) return null;
    const model = there(ids ? one(ids.model) : (asked?.model ?? undefined));
    const geoid = there(ids ? one(ids.geoid) : (asked?.geoid ?? undefined));
    return {
      left: left as number,
      right: right as number,
      more: { ...(model === undefined ? {} : { model }), ...(geoid === undefined ? {} : { geoid }) },
    };
  }, [images, all, surface, asked?.left.id, asked?.right.id, asked?.model, asked?.geoid]);
}

/** An image laid on the surface as it is now. */
export function useOrtho(images: Images | null, side: "left" | "right") {
  const project = useProject();
  const surface = useMended();
  const { a } = useHeld();
  const through = a && a.id === surface?.id ? inputOf(a) : surface?.id;
  const inputs: Looked | null =
    images && through !== undefined ? { image: images[side], surface: through, ...images.more } : null;
  const preview = usePreview(project.id, inputs && { operation: "orthoimage", params: {}, inputs });
  return { key: preview.data?.key ?? null, error: preview.error?.message ?? null, waiting: preview.isPlaceholderData };
}

/** A ring around a line, so far from it on both sides. */
function around(line: Line, half: number): Line {
  const side = (sign: number): Line =>
    line.map(([x, y], i) => {
      const [ax, ay] = line[Math.max(i - 1, 0)] as Place;
      const [bx, by] = line[Math.min(i + 1, line.length - 1)] as Place;
      const length = Math.hypot(bx - ax, by - ay) || 1;
      return [x - (sign * half * (by - ay)) / length, y + (sign * half * (bx - ax)) / length];
    });
  return [...side(1), ...side(-1).reverse()];
}

/** How far the ground inside an outline jumps between both images, through the surface as it is and as it was. */
export function useJump(images: Images | null, entry: AnyEntry | undefined) {
  const project = useProject();
  const surface = useMended();
  const { toGround, fromGround } = useRuler();
  const { a } = useHeld();
  const now = a && a.id === surface?.id ? a.key : surface?.key;
  const { ring, line, width = 0 } = entry?.content ?? {};
  const area = ring ?? (line ? fromGround(around(toGround(line as Line), width / 2)) : null);
  const keys = [...new Set([now, surface?.key])].filter((key): key is string => key !== undefined);
  const body =
    images && area && keys.length
      ? { inputs: { left: images.left, right: images.right, ...images.more }, keys, ring: area }
      : null;
  const asked = useQuery({
    queryKey: KEYS.jump(project.id, body),
    queryFn: ({ signal }) => call<Jump>("POST", `/projects/${project.id}/jumps`, body, signal),
    enabled: body !== null && project.role !== "viewer",
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  });
  return {
    ...asked,
    now: asked.data?.jumps[now ?? ""],
    before: asked.data?.jumps[surface?.key ?? ""],
    alike: asked.data?.alike[now ?? ""],
    alikeBefore: asked.data?.alike[surface?.key ?? ""],
  };
}
