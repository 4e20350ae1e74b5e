import { useState } from "react";
import type { Quantity } from "../../api/client";
import { decimalsFor, num, parse } from "../format";
import { type Look, useDesk } from "../store";
import styles from "./limit.module.css";

interface LimitProps {
  label: string;
  index: 0 | 1;
  look: Look;
  quantity: Quantity;
  unit: string;
}

/** An end of the ramp, to be typed. */
export function Limit({ label, index, look, quantity, unit }: LimitProps) {
  const setLook = useDesk((desk) => desk.look);
  const [text, setText] = useState<string | null>(null);
  const shown = num(look.range[index], decimalsFor(look.range[1] - look.range[0]));
  const keep = () => {
    const value = text === null ? null : parse(text);
    setText(null);
    if (value === null) return;
    const range: [number, number] = index ? [look.range[0], value] : [value, look.range[1]];
    if (range[1] > range[0]) setLook(quantity, { range, stretch: "typed" });
  };
  return (
    <div className={styles.lim} style={{ marginTop: 4 }}>
      <input
        aria-label={label}
        value={text ?? shown}
        onFocus={(event) => event.target.select()}
        onChange={(event) => setText(event.target.value)}
        onBlur={keep}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
      <span>{unit}</span>
    </div>
  );
}
