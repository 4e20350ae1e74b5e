import { useMemo } from "react";
import type { Holding, Quantity } from "../api/client";
import { usePreview } from "../api/queries";
import { inputOf, quantityOf, useProject } from "../desk/context";
import { useDesk } from "../desk/store";

/** What can be shown of heights instead of them: the operation that makes it, live. */
export const SHOWN = {
  height: { title: "heights", operation: "", params: {} },
  slope: { title: "slope", operation: "slope", params: {} },
  aspect: { title: "aspect", operation: "aspect", params: {} },
  curvature: { title: "curvature", operation: "curvature", params: {} },
  sky: { title: "sky view", operation: "sky", params: {} },
  contrast: { title: "local contrast", operation: "local_contrast", params: { kind: "deviation" } },
  openness: { title: "openness", operation: "sky", params: { kind: "openness" } },
} as const;

export type ShownAs = keyof typeof SHOWN;

/** What a slot shows on the map and in the key. */
export interface Shown {
  key: string;
  quantity: Quantity;
  coarse: boolean;
}

function useAsked(held: Holding | undefined) {
  const project = useProject();
  const { operation, params } = SHOWN[useDesk((desk) => desk.shownAs)];
  const asked = Boolean(held && operation && quantityOf(held) === "height");
  return {
    asked,
    ...usePreview(project.id, asked && held ? { operation, params, inputs: { surface: inputOf(held) } } : null),
  };
}

/** Why what was chosen to be shown of heights is not, if so. */
export const useShownProblem = (held: Holding | undefined): string | undefined => useAsked(held).error?.message;

/** What is shown of a surface in a slot: itself, or what was chosen to be shown of heights. */
export function useShown(held: Holding | undefined): Shown | undefined {
  const { asked, data, isPlaceholderData } = useAsked(held);
  const made = asked && data?.key && !isPlaceholderData ? data : null;
  const key = made?.key ?? held?.key;
  const quantity = (made?.quantity ?? quantityOf(held)) as Quantity;
  const coarse = made ? made.coarse : (held?.surface?.coarse ?? false);
  return useMemo(() => (key ? { key, quantity, coarse } : undefined), [key, quantity, coarse]);
}
