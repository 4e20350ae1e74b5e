import { useHeld } from "../desk/context";
import { has } from "../stages/useRole";
import { useDrainState } from "./state";

/** Known rivers that streams are held against: those that are chosen, or else what is called so and was not made here. */
export function useReference() {
  const { features } = useHeld();
  const reference = useDrainState((state) => state.reference);
  const rivers = features.filter((one) => has(one, "lines"));
  const usual = rivers.find((one) => /river|stream/i.test(one.name) && one.recipe === null);
  return { rivers, known: reference === undefined ? (usual?.id ?? null) : reference };
}

/** Points with names, by which places are told. */
export function useNamed(): number | null {
  const { features } = useHeld();
  return features.find((one) => "name" in one.features.attributes && (one.features.counts.points ?? 0) > 0)?.id ?? null;
}
