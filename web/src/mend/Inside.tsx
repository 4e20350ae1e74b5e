import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Profile } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { shortUnit } from "../desk/format";
import { useOverlay } from "../desk/overlays";
import type { Line } from "../map/shapes";
import { Card } from "../ui/Radio";
import { Cross } from "./Cross";
import { profileLine } from "./geometry";
import styles from "./mend.module.css";
import type { PatchContent } from "./operators";
import { useMended, useRuler } from "./useMended";
import { placesOf } from "./useStack";

const SHORTEST = 40; // metres that the line reaches out on either side at least

/** Heights across the patch before and after, along a line that the map shows. */
export function Inside({ content }: { content: PatchContent }) {
  const project = useProject();
  const surface = useMended();
  const { a } = useHeld();
  const { toGround, fromGround } = useRuler();
  const [along, setAlong] = useState(content.operator.kind === "along" || content.operator.kind === "falling");
  const drawn = JSON.stringify(placesOf(content));
  const line = useMemo(() => {
    const places = JSON.parse(drawn) as Line;
    return places.length > 1 ? fromGround(profileLine(toGround(places), Boolean(content.ring), along, SHORTEST)) : null;
  }, [drawn, content.ring, along, toGround, fromGround]);
  const keys = [...new Set([a?.key, surface?.key])].filter((key): key is string => key !== undefined);
  const { data } = useQuery({
    queryKey: KEYS.profile(project.id, keys, line),
    queryFn: ({ signal }) => call<Profile>("POST", `/projects/${project.id}/profiles`, { keys, line }, signal),
    enabled: line !== null && keys.length > 0,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
  useOverlay(
    "profile",
    useMemo(() => line && { line, at: null }, [line]),
  );
  const before = data?.courses[surface?.key ?? ""]?.heights;
  const after = data?.courses[a?.key ?? ""]?.heights ?? before;
  if (!before || !after) return null;
  return (
    <div className={styles.inside}>
      <Cross
        before={before}
        after={after}
        size={[266, 56]}
        label="Before and after"
        ends={["P", "Q"]}
        unit={shortUnit(project.frame.unit)}
      />
      <div className={styles.ways} role="radiogroup" aria-label="Profile">
        {[true, false].map((way) => (
          <Card
            key={String(way)}
            className={styles.way as string}
            group="mend-profile"
            checked={along === way}
            onChoose={() => setAlong(way)}
          >
            {way ? "along" : "across"}
          </Card>
        ))}
      </div>
    </div>
  );
}
