import { Popover } from "@mui/material";
import { useId, useState } from "react";
import type { Quantity } from "../api/client";
import { breaksFor, colourAt, gradientOf, ownStops, RAMPS, type Stop } from "../map/ramps";
import { SHOWN, type ShownAs, useShownProblem } from "../map/useShown";
import { Button } from "../ui/Button";
import { Check } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { NumberField } from "../ui/NumberField";
import { useHeld } from "./context";
import { num, parse } from "./format";
import { Caret } from "./icons";
import { SunDial } from "./SunDial";
import { FRESH, type Look, type Shade, useDesk } from "./store";

const CLASSES = [
  { value: "0", title: "none, colours flow" },
  ...[4, 6, 8, 12].map((count) => ({ value: String(count), title: `about ${count}, round breaks` })),
  { value: "own", title: "own breaks" },
];

const SHADES: { value: Shade; title: string }[] = [
  { value: "none", title: "none" },
  { value: "sky", title: "where little sky is seen" },
  { value: "contrast", title: "local contrast" },
];

interface Props {
  look: Look;
  quantity: Quantity;
  unit: string;
}

/** The name of the ramp in the key; pressed, everything about the look. */
export function LookButton(props: Props) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <button
        type="button"
        className="rampname"
        aria-label={`Look: ${props.look.ramp}`}
        onClick={(event) => setAnchor(event.currentTarget)}
      >
        {props.look.ramp} <Caret />
      </button>
      <Popover
        anchorEl={anchor}
        open={Boolean(anchor)}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: "bottom", horizontal: "right" }}
        transformOrigin={{ vertical: "top", horizontal: "right" }}
      >
        <div className="look" role="dialog" aria-label="Look">
          <ShownChoice quantity={props.quantity} />
          <Ramps {...props} />
          {props.quantity === "height" && <LightSetting />}
          <KeptLooks {...props} />
        </div>
      </Popover>
    </>
  );
}

function ShownChoice({ quantity }: { quantity: Quantity }) {
  const shownAs = useDesk((desk) => desk.shownAs);
  const set = useDesk((desk) => desk.set);
  const { a, b } = useHeld();
  const problem = [useShownProblem(a), useShownProblem(b)].find(Boolean);
  if (quantity === "difference" || quantity === "source") return null;
  return (
    <section>
      <Choice
        label="Show"
        value={shownAs}
        options={Object.entries(SHOWN).map(([value, { title }]) => ({ value, title }))}
        onChange={(value) => set({ shownAs: value as ShownAs })}
      />
      {problem && (
        <p className="err" role="alert">
          {problem}
        </p>
      )}
    </section>
  );
}

/** Ramp, direction, classes and colours. */
function Ramps({ look, quantity, unit }: Props) {
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
      <div className="swatches" role="radiogroup" aria-label="Ramp">
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
      <Check label="Turned about" checked={look.reversed} onChange={(on) => change({ reversed: on })} />
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

interface SliderProps {
  label: string;
  /** Lowest, highest, and the step between two places. */
  range: [number, number, number];
  value: number;
  /** The figure beside it. */
  shown: string;
  onChange: (value: number) => void;
}

/** A number that is slid along its range, on one row with its label. */
function Slider({ label, range: [min, max, step], value, shown, onChange }: SliderProps) {
  const id = useId();
  return (
    <div className="row">
      <label htmlFor={id}>{label}</label>
      <input
        id={id}
        type="range"
        min={min}
        max={max}
        step={step}
        value={value}
        onChange={(event) => onChange(Number(event.target.value))}
      />
      <span className="n">{shown}</span>
    </div>
  );
}

/** Where light comes from, and how strong the relief is. */
function LightSetting() {
  const light = useDesk((desk) => desk.light);
  const set = useDesk((desk) => desk.set);
  const change = (values: Partial<typeof light>) => set({ light: { ...light, ...values } });
  return (
    <section>
      <h3>Light</h3>
      <div className="lighting">
        <SunDial azimuth={light.azimuth} altitude={light.altitude} onChange={change} />
        <div>
          <div className="row">
            <NumberField
              label="From"
              unit="°"
              value={Math.round(light.azimuth)}
              onChange={(value) => value !== null && change({ azimuth: ((value % 360) + 360) % 360 })}
            />
          </div>
          <div className="row">
            <NumberField
              label="Altitude"
              unit="°"
              value={Math.round(light.altitude)}
              onChange={(value) => value !== null && change({ altitude: Math.min(Math.max(value, 5), 90) })}
            />
          </div>
          <Check label="Four lights" checked={light.several} onChange={(on) => change({ several: on })} />
        </div>
      </div>
      <Slider
        label="Strength"
        range={[0, 1.6, 0.05]}
        value={light.strength}
        shown={`${num(light.strength * 100)} %`}
        onChange={(strength) => change({ strength })}
      />
      <Slider
        label="Vertical exaggeration"
        range={[-2, 3, 0.25]}
        value={Math.log2(light.rise)}
        shown={num(light.rise, light.rise < 2 ? 2 : 1)}
        onChange={(power) => change({ rise: 2 ** power })}
      />
      <Choice
        label="Shade"
        value={light.shade}
        options={SHADES}
        onChange={(value) => change({ shade: value as Shade })}
      />
      {light.shade !== "none" && (
        <Slider
          label="Depth"
          range={[0, 2, 0.05]}
          value={light.depth}
          shown={`${num(light.depth * 100)} %`}
          onChange={(depth) => change({ depth })}
        />
      )}
      <Button kind="link" onClick={() => set({ light: FRESH.light })}>
        Usual light
      </Button>
    </section>
  );
}

/** Looks that were kept under names: put on at a press. */
function KeptLooks({ look, quantity }: Props) {
  const kept = useDesk((desk) => desk.keptLooks);
  const light = useDesk((desk) => desk.light);
  const set = useDesk((desk) => desk.set);
  const setLook = useDesk((desk) => desk.look);
  const mine = kept.filter((one) => one.quantity === quantity);
  return (
    <section>
      <h3>Kept looks</h3>
      {mine.length > 0 && (
        <p className="acts">
          {mine.map((one) => (
            <span key={one.name}>
              <Button
                kind="link"
                onClick={() => {
                  setLook(quantity, one.look);
                  set({ light: { ...FRESH.light, ...one.light } });
                }}
              >
                {one.name}
              </Button>
              <Button
                kind="link"
                aria-label={`Forget the look ${one.name}`}
                onClick={() => set({ keptLooks: kept.filter((other) => other !== one) })}
              >
                ×
              </Button>
            </span>
          ))}
        </p>
      )}
      <KeepAs
        label="Keep look as"
        onKeep={(called) => {
          const others = kept.filter((one) => one.name !== called || one.quantity !== quantity);
          set({ keptLooks: [...others, { name: called, quantity, look, light }] });
        }}
      />
    </section>
  );
}

/** A name to keep something under; not one that is taken. */
function KeepAs(props: { label: string; taken?: string[]; onKeep: (name: string) => void }) {
  const [name, setName] = useState("");
  const id = useId();
  const called = name.trim();
  return (
    <div className="row">
      <label htmlFor={id}>{props.label}</label>
      <span className="field">
        <input id={id} className="text" maxLength={24} value={name} onChange={(event) => setName(event.target.value)} />
      </span>
      <Button
        disabled={!called || props.taken?.includes(called)}
        onClick={() => {
          props.onKeep(called);
          setName("");
        }}
      >
        Keep
      </Button>
    </div>
  );
}
