import { useState } from "react";
import { breaksFor, colourAt, gradientOf, ownStops, RAMPS, type Stop } from "../../map/ramps";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { num, parse } from "../format";
import { type Look, useDesk } from "../store";

import { KeepAs } from "./KeepAs";
import type { LookProps } from "./LookButton";
import styles from "./ramps.module.css";

const CLASSES = [
  { value: "0", title: "none, colours flow" },
  ...[4, 6, 8, 12].map((count) => ({ value: String(count), title: `about ${count}, round breaks` })),
  { value: "own", title: "own breaks" },
];

/** Ramp, direction, classes and colours. */
export function Ramps({ look, quantity, unit }: LookProps) {
  const setLook = useDesk((desk) => desk.look);
  const set = useDesk((desk) => desk.set);
  const ramps = useDesk((desk) => desk.ramps);
  const [typed, setTyped] = useState<string | null>(null);
  const change = (values: Partial<Look>) => setLook(quantity, values);
  const stops = ownStops(look);
  const classed = !look.breaks
    ? "0"
    : (CLASSES.find(({ value }) => String(breaksFor(look.range, Number(value))) === String(look.breaks))?.value ??
      "own");
  const put = (next: Stop[]) => change({ stops: next });
  const keep = (called: string) => {
    set({ ramps: { ...ramps, [called]: stops } });
    change({ ramp: called, stops });
  };
  const offered: [string, Stop[] | null][] = [
    ...Object.keys(RAMPS)
      .filter((one) => one !== "Patchwork")
      .map((one): [string, null] => [one, null]),
    ...Object.entries(ramps),
  ];
  return (
    <section>
      <h3>Ramp</h3>
      <div className={styles.swatches} role="radiogroup" aria-label="Ramp">
        {offered.map(([one, own]) => (
          <label key={one} className={own ? "own" : ""}>
            <input
              type="radio"
              name="ramp"
              checked={one === look.ramp}
              onChange={() => change({ ramp: one, stops: own })}
            />
            <i
              style={{
                background: gradientOf({ ...look, ramp: one, stops: own, breaks: null }).replace("to top", "to right"),
              }}
            />
            <span>{one}</span>
            {own && (
              <Button
                kind="link"
                aria-label={`Forget ${one}`}
                onClick={() => {
                  const { [one]: _, ...rest } = ramps;
                  set({ ramps: rest });
                }}
              >
                ×
              </Button>
            )}
          </label>
        ))}
      </div>
      <Check label="Reversed" checked={look.reversed} onChange={(on) => change({ reversed: on })} />
      <Choice
        label="Classes"
        value={classed}
        options={CLASSES}
        onChange={(value) =>
          change({
            breaks:
              value === "0" ? null : value === "own" ? breaksFor(look.range, 5) : breaksFor(look.range, Number(value)),
          })
        }
      />
      {look.breaks && (
        <div className="row">
          <label htmlFor="look-breaks">Breaks, {unit || "values"}</label>
          <span className="field">
            <input
              id="look-breaks"
              className="text"
              value={typed ?? look.breaks.map((value) => num(value, value % 1 ? 2 : 0)).join("; ")}
              onChange={(event) => setTyped(event.target.value)}
              onBlur={() => {
                const values = (typed ?? "").split(/[;\s]+/).flatMap((one) => parse(one) ?? []);
                if (typed !== null && values.length) change({ breaks: values.sort((one, other) => one - other) });
                setTyped(null);
              }}
              onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
            />
          </span>
        </div>
      )}
      <div className="stops" role="group" aria-label="Colours, the lowest first">
        {stops.map(([at, colour], i) => (
          <span key={`${at}`}>
            <input
              type="color"
              aria-label={`Colour ${i + 1} of ${stops.length}`}
              value={colour.toLowerCase()}
              onChange={({ target: { value } }) =>
                put(stops.map((stop, n): Stop => (n === i ? [at, value.toUpperCase()] : stop)))
              }
            />
          </span>
        ))}
        <Button
          kind="link"
          disabled={stops.length > 11}
          onClick={() => {
            // where two stops lie farthest apart
            const gaps = stops.slice(1).map(([at], i) => at - (stops[i]?.[0] ?? 0));
            const widest = gaps.indexOf(Math.max(...gaps));
            const at = ((stops[widest]?.[0] ?? 0) + (stops[widest + 1]?.[0] ?? 1)) / 2;
            put([...stops, [at, colourAt(stops, at)] as Stop].sort(([one], [other]) => one - other));
          }}
        >
          more
        </Button>
        <Button
          kind="link"
          disabled={stops.length < 3}
          onClick={() => put(stops.filter((_, i) => i !== Math.floor(stops.length / 2)))}
        >
          fewer
        </Button>
        {look.stops && look.ramp in RAMPS && (
          <Button kind="link" onClick={() => change({ stops: null })}>
            as it was
          </Button>
        )}
      </div>
      <KeepAs label="Keep ramp as" taken={Object.keys(RAMPS)} onKeep={keep} />
    </section>
  );
}
