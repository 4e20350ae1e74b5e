import { type Mode, useDesk } from "../desk/store";

const MODES: [Mode, string][] = [
  ["alone", "Alone"],
  ["curtain", "Curtain"],
  ["pair", "Pair"],
  ["several", "Several"],
  ["blink", "Blink"],
  ["minus", "Minus"],
];

/** The ways to see two surfaces. All but the first need something in B. */
export function Modes({ both }: { both: boolean }) {
  const mode = useDesk((desk) => desk.mode);
  const set = useDesk((desk) => desk.set);
  return (
    <div className="modes" role="radiogroup" aria-label="How A and B are shown">
      {MODES.map(([value, title]) => (
        <label key={value} title={both || value === "alone" ? undefined : "Put a surface in A and one in B first"}>
          <input
            type="radio"
            name="mode"
            checked={mode === value}
            disabled={!both && value !== "alone"}
            onChange={() => set({ mode: value, blinkB: false })}
          />
          {title}
        </label>
      ))}
    </div>
  );
}
