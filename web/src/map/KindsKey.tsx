import { useQueries } from "@tanstack/react-query";
import { type ColumnValue, call } from "../api/client";
import { KEYS } from "../api/keys";
import { useMe } from "../api/queries";
import { useHeld, useProject } from "../desk/context";
import { useDesk } from "../desk/store";
import { coloursOf, REST } from "./kinds";
import styles from "./kindskey.module.css";
import { useDress } from "./useDressed";
import { isVisible } from "./visible";

/** Which colour is which value, of lines and areas that are coloured by a column. */
export function KindsKey() {
  const project = useProject();
  const { features } = useHeld();
  const hidden = useDesk((desk) => desk.hidden);
  const dressOf = useDress();
  const me = useMe().data?.id;
  const coloured = features
    .filter((one) => isVisible(one, hidden, me) && dressOf(one).by === "column")
    .map((one) => ({ holding: one, column: dressOf(one).column }));
  const found = useQueries({
    queries: coloured.map(({ holding, column }) => ({
      queryKey: KEYS.columnValues(project.id, holding.id, column),
      queryFn: () =>
        call<ColumnValue[]>(
          "GET",
          `/projects/${project.id}/holdings/${holding.id}/values?column=${encodeURIComponent(column)}`,
        ),
    })),
    combine: (results) => results.map(({ data }) => data),
  });
  if (!coloured.length) return null;
  return (
    <aside className={styles.kinds} aria-label="Colours of lines and areas">
      {coloured.map(({ holding }, i) => {
        const values = found[i] ?? [];
        const colours = coloursOf(values.map(({ value, count }) => [value, count]));
        return (
          <section key={holding.id}>
            <h3 title={holding.name}>{holding.name}</h3>
            <ul>
              {[...colours].map(([value, colour]) => (
                <li key={value}>
                  <i style={{ background: colour }} />
                  {value || "no value"}
                </li>
              ))}
              {values.length > colours.size && (
                <li>
                  <i style={{ background: REST }} />
                  any other
                </li>
              )}
            </ul>
          </section>
        );
      })}
    </aside>
  );
}
