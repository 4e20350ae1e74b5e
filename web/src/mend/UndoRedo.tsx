import { useCallback } from "react";
import { useUndoKey } from "../desk/useUndoKey";
import { Button } from "../ui/Button";
import { ToolIcon } from "./icons";
import styles from "./mend.module.css";
import { useMendedStack } from "./useMended";

/** Undoing and doing again, named by what they take back. */
export function UndoRedo() {
  const { undo, redo, change } = useMendedStack();
  useUndoKey(useCallback((again: boolean) => change(again ? "redo" : "undo"), [change]));
  return (
    <span className={styles.undo}>
      <Button
        kind="bare"
        aria-label="Undo"
        title={undo && `Undo: ${undo}`}
        disabled={!undo}
        onClick={() => change("undo")}
      >
        <ToolIcon name="undo" />
      </Button>
      <Button
        kind="bare"
        aria-label="Redo"
        title={redo && `Do again: ${redo}`}
        disabled={!redo}
        onClick={() => change("redo")}
      >
        <ToolIcon name="redo" />
      </Button>
    </span>
  );
}
