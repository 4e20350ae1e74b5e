import { useMemo } from "react";
import { useHeld } from "../desk/context";
import { many } from "../desk/format";
import { useDesk } from "../desk/store";
import { Button } from "../ui/Button";
import styles from "./mend.module.css";
import { useMended, useMendedStack } from "./useMended";

const given = (id: number | number[] | undefined) => (Array.isArray(id) ? id[0] : id);

/** Offers the patches with which the surface was kept before, where the list has others by now. */
export function TakeBack() {
  const surface = useMended();
  const { surfaces } = useHeld();
  const { patches, keepOuts, change } = useMendedStack();
  const again = useDesk((desk) => desk.sheets.mend?.again);
  const made = surfaces.filter(
    ({ recipe }) => recipe?.operation === "mend" && given(recipe.input_ids.surface) === surface?.id,
  );
  const kept = made.find((one) => one.id === again) ?? made.sort((one, other) => other.id - one.id)[0];
  const params = kept?.recipe?.params as { patches: unknown[]; keep_outs?: unknown[] } | undefined;
  // of thousands of patches that takes a while
  const alike = useMemo(() => {
    const now = [patches.map((one) => one.content), keepOuts.map((one) => one.content)];
    return params !== undefined && JSON.stringify([params.patches, params.keep_outs ?? []]) === JSON.stringify(now);
  }, [params, patches, keepOuts]);
  if (!kept || !params || alike) return null;
  const count = params.patches.length;
  return (
    <p className={styles.draws}>
      {kept.name} was kept with {count === 1 ? "1 patch" : `${many(count)} patches`}, not as they are in this list.{" "}
      <Button kind="link" onClick={() => change({ kept: kept.id })}>
        Take those back
      </Button>
    </p>
  );
}
