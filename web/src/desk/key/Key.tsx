import { useEffect } from "react";
import type { Quantity } from "../../api/client";
import { useFigures } from "../../api/queries";
import { useDifference } from "../../map/useDifference";
import { useShown } from "../../map/useShown";
import { unitOf, useHeld, useProject } from "../context";
import { LookButton } from "../look/LookButton";
import { type Stretch, useDesk } from "../store";
import { useReading } from "../useReading";

import { Axis } from "./Axis";
import { Limit } from "./Limit";
import { rangeFor } from "./range";
import { SourceKey } from "./SourceKey";

/** Legend, histogram and stretch in one: the ramp upright, A's histogram on its left, B's on its right. */
export function Key() {
  const project = useProject();
  const { a, b } = useHeld();
  const mode = useDesk((desk) => desk.mode);
  const looks = useDesk((desk) => desk.looks);
  const bounds = useDesk((desk) => desk.bounds);
  const preview = useDesk((desk) => desk.preview);
  const setLook = useDesk((desk) => desk.look);
  const minus = mode === "minus" && Boolean(a && b);
  const difference = useDifference(a, b, minus);
  const reading = useReading();
  const [inA, inB] = [useShown(a), useShown(b)];
  const quantity: Quantity = minus ? "difference" : (preview?.quantity ?? (inA ?? inB)?.quantity ?? "height");
  const look = looks[quantity];
  const keyA = minus ? difference.key : (preview?.key ?? inA?.key ?? null);
  const keyB = !minus && inB?.quantity === quantity ? inB.key : null;
  const under = preview && !minus && inA?.quantity === quantity ? inA.key : null; // A around the preview
  const keys = [...new Set([keyA, keyB, under])].filter((key) => key !== null);
  const rounded = bounds?.map((value) => Math.round(value)) ?? null;
  const inView = useFigures(project.id, keys, rounded, rounded !== null);
  const whole = useFigures(project.id, keys, null, look.stretch === "whole");
  const unit = unitOf(quantity, project.frame.unit);
  const figures = look.stretch === "whole" ? whole.data : inView.data;

  const sourceIds = preview ? preview.inputs?.surfaces : a?.recipe?.input_ids.surfaces;

  useEffect(() => {
    if (look.stretch === "typed" || !figures) return;
    const found = rangeFor(
      look.stretch,
      keys.flatMap((key) => figures[key] ?? []),
      quantity,
    );
    if (found && (found[0] !== look.range[0] || found[1] !== look.range[1])) setLook(quantity, { range: found });
  }, [figures, keys, look, quantity, setLook]);

  if (quantity === "source")
    return (
      <aside className="key" aria-label="Key">
        <SourceKey ids={sourceIds} />
      </aside>
    );
  return (
    <aside className="key" aria-label="Key">
      <LookButton look={look} quantity={quantity} unit={unit} />
      <Limit label="Upper end of the ramp" index={1} look={look} quantity={quantity} unit={unit} />
      <div className="ab">
        <b>{keyA ? (minus ? "" : "A") : ""}</b>
        <b>{keyB ? "B" : ""}</b>
      </div>
      <Axis
        look={look}
        quantity={quantity}
        unit={unit}
        a={keyA ? inView.data?.[keyA] : undefined}
        b={keyB ? inView.data?.[keyB] : undefined}
        plain={minus}
        readings={
          minus ? [reading.minus, null] : [keyA === a?.key ? reading.a : null, keyB === b?.key ? reading.b : null]
        }
      />
      <Limit label="Lower end of the ramp" index={0} look={look} quantity={quantity} unit={unit} />
      <div className="rng" role="radiogroup" aria-label="Stretch" style={{ marginTop: 8 }}>
        {(
          [
            ["whole", "whole"],
            ["view", "this view"],
            ["middle", "2 to 98 %"],
          ] as [Stretch, string][]
        ).map(([value, title]) => (
          <label key={value}>
            <input
              type="radio"
              name="stretch"
              checked={look.stretch === value}
              onChange={() => setLook(quantity, { stretch: value })}
            />
            {title}
          </label>
        ))}
      </div>
    </aside>
  );
}
