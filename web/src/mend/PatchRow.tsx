import { useState } from "react";
import { useProject } from "../desk/context";
import { num } from "../desk/format";
import { Toggle } from "../ui/Toggle";
import { Size } from "./Extent";
import styles from "./mend.module.css";
import { OpenPatch } from "./OpenPatch";
import { OperatorIcon } from "./OperatorIcon";
import { OPERATORS } from "./operators";
import { useMend } from "./state";
import type { Did } from "./useDid";
import { useMendedStack } from "./useMended";
import type { PatchEntry } from "./useStack";

/** A patch in the list: whether it counts, its operator, name, size and what it moved; open, all that can be set of it. */
export function PatchRow({ entry, number, did }: { entry: PatchEntry; number: number; did: Did | undefined }) {
  const { change, patches } = useMendedStack();
  const canMend = useProject().role !== "viewer";
  const open = useMend((mend) => mend.chosen === entry.name);
  const set = useMend((mend) => mend.set);
  const [over, setOver] = useState(false);
  const { content } = entry;
  const title = content.name || OPERATORS[content.operator.kind].title;
  return (
    <li
      className={styles.patch}
      data-open={open}
      data-over={over}
      draggable={canMend && !open}
      onDragStart={(event) => event.dataTransfer.setData("text/yama-patch", entry.name)}
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("text/yama-patch")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        const name = event.dataTransfer.getData("text/yama-patch");
        if (name && name !== entry.name && patches.some((one) => one.name === name))
          change([{ name, kind: "patch", before: entry.name }]);
      }}
    >
      <div className={styles.patchrow}>
        {canMend ? (
          <Toggle
            label={<span className="unseen">{title} counts</span>}
            checked={content.on}
            onChange={(on) => change([{ name: entry.name, kind: "patch", content: { ...content, on } }])}
          />
        ) : (
          <span />
        )}
        <button
          type="button"
          className={styles.patchname}
          aria-expanded={open}
          onClick={() => set({ chosen: open ? null : entry.name })}
        >
          <OperatorIcon kind={content.operator.kind} small />
          <span>
            <span className="n">{number}</span> {title}
          </span>
        </button>
        <span className="n">
          <Size content={content} />
        </span>
        <span className="n" title="Cubic metres moved">
          {!content.on ? "off" : did?.problem ? "" : did ? num(did.raised + did.lowered) : ""}
        </span>
      </div>
      {content.on && did?.problem && (
        <p className={styles.problem} role="alert">
          Changes nothing. {did.problem.replace(`${content.name}: `, "")}
        </p>
      )}
      {content.on && did?.remark && (
        <p className={styles.told} role="status">
          {did.remark.replace(`${content.name}: `, "")}
        </p>
      )}
      {open && canMend && <OpenPatch entry={entry} />}
    </li>
  );
}
