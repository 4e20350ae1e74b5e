import { patchOf } from "../../map/ramps";
import { useHeld } from "../context";
import { sourcesOf } from "../products";
import styles from "./sourceKey.module.css";

/** Which colour is which surface, of a map that shows where cells came from. */
export function SourceKey({ ids }: { ids: number | (number | null)[] | undefined }) {
  const { surfaces } = useHeld();
  const listed = sourcesOf(
    (Array.isArray(ids) ? ids : []).flatMap((id) => surfaces.find((one) => one.id === id) ?? []),
  );
  return (
    <ul className={styles.sourcekey} aria-label="Sources">
      {listed.map(({ name }, i) => (
        <li key={name}>
          <i className="patch" style={{ background: patchOf(i) }} />
          {name}
        </li>
      ))}
    </ul>
  );
}
