import { useProject } from "../desk/context";
import { Button } from "../ui/Button";
import { TextField } from "../ui/TextField";
import { Extent, Size } from "./Extent";
import { Lock } from "./icons";
import styles from "./mend.module.css";
import { RimRow } from "./RimRow";
import { useMend } from "./state";
import { useMendedStack } from "./useMended";
import type { KeepOutEntry } from "./useStack";
import { useTyped } from "./useTyped";

/** A keep-out in the list; open, its size, name and rim. */
export function KeepOutRow({ entry }: { entry: KeepOutEntry }) {
  const { change } = useMendedStack();
  const canMend = useProject().role !== "viewer";
  const open = useMend((mend) => mend.chosen === entry.name);
  const set = useMend((mend) => mend.set);
  const { content, set: type } = useTyped(entry);
  return (
    <li className={styles.patch} data-open={open}>
      <div className={styles.keeprow}>
        <Lock />
        <button
          type="button"
          className={styles.patchname}
          aria-expanded={open}
          onClick={() => set({ chosen: open ? null : entry.name })}
        >
          <span>{entry.content.name || "Keep-out"}</span>
          {entry.content.real && <span className="mut">real</span>}
        </button>
        <span className="n">
          <Size content={content} />
        </span>
      </div>
      {open && canMend && (
        <div className={styles.open}>
          <p className={styles.extent}>
            <Extent content={content} />
          </p>
          <TextField
            label="Name"
            value={content.name}
            placeholder="Keep-out"
            maxLength={120}
            onChange={(name) => type({ name })}
          />
          <RimRow entry={entry} />
          <div className="acts edits">
            <Button
              kind="small"
              onClick={() => {
                change([{ name: entry.name, kind: "keep_out", gone: true }]);
                set({ chosen: null });
              }}
            >
              Remove
            </Button>
          </div>
        </div>
      )}
    </li>
  );
}
