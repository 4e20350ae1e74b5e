import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Jump, type Looked } from "../api/client";
import { KEYS } from "../api/keys";
import { type RunBody, usePreview } from "../api/queries";
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
  /** So many times as many cells along each side as the frame's are needed for all that the images show. */
  finer: number;
}

const FINEST = 8;

const one = (given: number | number[] | undefined) => (Array.isArray(given) ? given[0] : given);

/** The image pair that the surface was made from, else the one that was worked with last; null where there is none. */
export function useImages(): Images | null {
  const { images, all } = useHeld();
  const surface = useMended();
  const asked = usePairAsked();
  const { frame } = useProject();
  return useMemo(() => {
    const ids = surface?.recipe?.operation === "image_pair" ? surface.recipe.input_ids : null;
    const there = (id: number | undefined) => (all.some((held) => held.id === id) ? id : undefined);
    const [left, right] = ids ? [one(ids.left), one(ids.right)] : [asked?.left.id, asked?.right.id];
    const seen = [left, right].map((id) => images.find((held) => held.id === id)?.image);
    if (!seen[0] || !seen[1]) return null;
    const cells = frame.cell_size / Math.min(...seen.map((image) => image?.ground_size ?? frame.cell_size));
    const model = there(ids ? one(ids.model) : (asked?.model ?? undefined));
    const geoid = there(ids ? one(ids.geoid) : (asked?.geoid ?? undefined));
    return {
      left: left as number,
      right: right as number,
      finer: 2 ** Math.ceil(Math.log2(Math.min(Math.max(cells, 1), FINEST))),
      more: { ...(model === undefined ? {} : { model }), ...(geoid === undefined ? {} : { geoid }) },
    };
  }, [images, all, surface, asked?.left.id, asked?.right.id, asked?.model, asked?.geoid, frame.cell_size]);
}

/** An image laid on the surface as it is now. */
export function useOrtho(images: Images | null, side: "left" | "right") {
  const project = useProject();
  const surface = useMended();
  const { a } = useHeld();
  const through = a && a.id === surface?.id ? inputOf(a) : surface?.id;
  const asked: RunBody | null =
    images && through !== undefined
      ? {
          operation: "orthoimage",
          params: { finer: images.finer },
          inputs: { image: images[side], surface: through, ...images.more } satisfies Looked,
        }
      : null;
  const preview = usePreview(project.id, asked);
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
