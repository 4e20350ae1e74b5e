import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { Slide } from "../../ui/Slide";
import { num } from "../format";
import { SunDial } from "../SunDial";
import { FRESH, type Shade, useDesk } from "../store";
import styles from "./lightSetting.module.css";

const SHADES: { value: Shade; title: string }[] = [
  { value: "none", title: "none" },
  { value: "sky", title: "where little sky is seen" },
  { value: "contrast", title: "local contrast" },
];

/** Where light comes from, and how strong the relief is. */
export function LightSetting() {
  const light = useDesk((desk) => desk.light);
  const set = useDesk((desk) => desk.set);
  const change = (values: Partial<typeof light>) => set({ light: { ...light, ...values } });
  return (
    <section>
      <h3>Light</h3>
      <div className={styles.lighting}>
        <SunDial azimuth={light.azimuth} altitude={light.altitude} onChange={change} />
        <div>
          <NumberField
            label="From"
            unit="°"
            value={Math.round(light.azimuth)}
            onChange={(value) => value !== null && change({ azimuth: ((value % 360) + 360) % 360 })}
          />
          <NumberField
            label="Altitude"
            unit="°"
            value={Math.round(light.altitude)}
            onChange={(value) => value !== null && change({ altitude: Math.min(Math.max(value, 5), 90) })}
          />
          <Check label="Four lights" checked={light.several} onChange={(on) => change({ several: on })} />
        </div>
      </div>
      <Slide
        label="Strength"
        range={[0, 1.6, 0.05]}
        value={light.strength}
        shown={`${num(light.strength * 100)} %`}
        onChange={(strength) => change({ strength })}
      />
      <Slide
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
        <Slide
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
