import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { bytes, type ImageHolding, type ViewFigures } from "../api/client";
import { KEYS } from "../api/keys";
import { useProject } from "../desk/context";
import { Axis } from "../desk/key/Axis";
import { Limit } from "../desk/key/Limit";
import { rangeFor } from "../desk/key/range";
import { LookButton } from "../desk/look/LookButton";
import { useDesk } from "../desk/store";
import { topLevel } from "../map/surfaceLayer";
import { gridOf } from "./plane";
import { usePairAsked } from "./usePair";

const BINS = 64;

/** How often which grey value is there: counts between the 0.5th and 99.5th of a hundred. */
export function figuresOf(cells: Float32Array): ViewFigures | null {
  const known = cells.filter((value) => !Number.isNaN(value)).sort();
  if (!known.length) return null;
  const at = (share: number) => known[Math.round(share * (known.length - 1))] ?? 0;
  const [first, last] = [at(0.005), Math.max(at(0.995), at(0.005) + 1)];
  const counts: number[] = Array(BINS).fill(0);
  for (const value of known)
    if (value >= first && value <= last) {
      const bin = Math.min(Math.floor(((value - first) / (last - first)) * BINS), BINS - 1);
      counts[bin] = (counts[bin] ?? 0) + 1;
    }
  const found = {
    low: at(0),
    high: at(1),
    low2: at(0.02),
    high98: at(0.98),
    mean: null,
    empty: 0,
    first,
    last,
    counts,
    cell: 1,
  };
  return found;
}

/** Grey values of a whole image, from its coarsest tile. */
function useGrey(image: ImageHolding | undefined): ViewFigures | undefined {
  const project = useProject();
  const level = image ? topLevel(gridOf("", image.image.rows, image.image.cols)) : 0;
  const { data } = useQuery({
    queryKey: KEYS.greys(project.id, [image?.id, level]),
    queryFn: async ({ signal }) => {
      const body = await bytes(`/projects/${project.id}/images/${image?.id}/tiles/${level}/0/0`, signal);
      return body && figuresOf(new Float32Array(body));
    },
    enabled: image !== undefined,
    staleTime: Infinity,
  });
  return data ?? undefined;
}

/** The key of grey values: left image on its left, right image on its right. */
export function PairKey() {
  const asked = usePairAsked();
  const look = useDesk((desk) => desk.looks.grey);
  const setLook = useDesk((desk) => desk.look);
  const [left, right] = [useGrey(asked?.left), useGrey(asked?.right)];
  useEffect(() => {
    if (look.stretch === "typed" || !left || !right) return;
    const found = rangeFor(look.stretch, [left, right], "grey");
    if (found && (found[0] !== look.range[0] || found[1] !== look.range[1])) setLook("grey", { range: found });
  }, [left, right, look, setLook]);
  return (
    <aside className="key" aria-label="Key">
      <LookButton look={look} quantity="grey" unit="" />
      <Limit label="Upper end of the ramp" index={1} look={look} quantity="grey" unit="" />
      <div className="ab">
        <b>L</b>
        <small>grey</small>
        <b>R</b>
      </div>
      <Axis look={look} quantity="grey" unit="" a={left} b={right} plain readings={[null, null]} />
      <Limit label="Lower end of the ramp" index={0} look={look} quantity="grey" unit="" />
    </aside>
  );
}
