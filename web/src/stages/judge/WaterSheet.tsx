import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { call, type Lake, type Water, type WaterBasin } from "../../api/client";
import { KEYS } from "../../api/keys";
import { useHeld, useProject } from "../../desk/context";
import { areaOf, num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { useSettled } from "../../desk/useSettled";
import { WaterChart } from "../../judge/WaterChart";
import styles from "../../judge/water.module.css";
import { INKS, SLOT_INKS } from "../../map/dress";
import { useRuler } from "../../mend/useMended";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Choice } from "../../ui/Choice";
import { NumberField } from "../../ui/NumberField";
import { Refusal } from "../../ui/Refusal";
import { Row } from "../../ui/Row";
import { Segments } from "../../ui/Segments";
import { Section, Sheet } from "../../ui/Sheet";
import { Slide } from "../../ui/Slide";
import { HoldingChoice } from "../HoldingChoice";
import { has } from "../useRole";

const PAUSE = 150; // milliseconds that a level stays before shores are drawn at it
const MOST = 20;

const volumeOf = (cubic: number) =>
  cubic >= 1e5 ? `${num(cubic / 1e6, 2)} hm³` : `${num(Math.round(cubic / 10) * 10)} m³`;
const signed = (value: number) => `${value > 0 ? "+" : ""}${num(value, 2)}`;

/** A curve's value at a level, between the levels at which it is known. */
export function between(levels: number[], values: number[], level: number): number {
  const [low, high] = [levels[0] ?? 0, levels.at(-1) ?? 1];
  const at = Math.min(Math.max(((level - low) / (high - low || 1)) * (levels.length - 1), 0), levels.length - 1);
  const left = Math.floor(at);
  const [one, other] = [values[left] ?? 0, values[Math.min(left + 1, values.length - 1)] ?? 0];
  return one + (at - left) * (other - one);
}

/** What a basin has that the other has not, as a sentence. */
function Unlike({ one, to }: { one: WaterBasin; to: string }) {
  const { unlike } = one;
  if (!unlike || unlike.offset === null || unlike.offset === undefined || !unlike.verdict) return null;
  const apart = Math.abs(unlike.offset);
  const way = unlike.offset > 0 ? "higher" : "lower";
  const share = (value: number | null | undefined) => <span className="n">{num(100 * (value ?? 0))} %</span>;
  return (
    <p className={styles.told}>
      <b>{one.name}</b>{" "}
      {unlike.verdict === "offset" ? (
        <>
          has the shape of {to}, and another zero: filled <b className="n">{num(apart, 2)}</b> m {way},{" "}
          {share(unlike.shared_put_right)} of the water is in both; at one level, {share(unlike.shared)}.
        </>
      ) : unlike.verdict === "alike" ? (
        <>
          is like {to}: {share(unlike.shared)} of the water is in both.
        </>
      ) : (
        <>
          has another shape than {to}: however it is filled, no more than {share(unlike.shared_put_right)} of the water
          is in both.
        </>
      )}
    </p>
  );
}

/** A lake filled to any level in every surface at once. */
export function WaterSheet() {
  const project = useProject();
  const { surfaces, features, a, b } = useHeld();
  const set = useDesk((desk) => desk.set);
  const { perMetre } = useRuler();
  const heights = surfaces.filter((one) => one.surface.quantity === "height").slice(0, MOST);
  const areas = features.filter((one) => has(one, "polygons"));
  const [chosen, setChosen] = useState<number | undefined>();
  const [lake, setLake] = useState(0);
  const [inView, setInView] = useState<boolean | undefined>();
  const [all, setAll] = useState(false);
  const [typed, setTyped] = useState<number | null>(null);
  const held = areas.find((one) => one.id === chosen) ?? areas.find((one) => /lake|water/i.test(one.name));
  // without lakes there is still the ground
  const ground = inView ?? !areas.length;
  const bounds = useSettled(
    useDesk((desk) => desk.bounds),
    400,
  );
  const { data: lakes = [], error: noLakes } = useQuery({
    queryKey: KEYS.lakes(project.id, held?.id, project.frame.mark),
    queryFn: () => call<Lake[]>("GET", `/projects/${project.id}/lakes/${held?.id}`),
    enabled: held !== undefined && !ground,
    retry: false,
  });
  const level = useSettled(typed, PAUSE);
  const to = heights.find((one) => one.key === a?.key)?.id ?? null;
  const asked = {
    surfaces: heights.map((one) => one.id),
    to,
    level,
    ...(ground ? { bounds } : { features: held?.id, lake }),
  };
  const { data, error, isFetching } = useQuery({
    queryKey: KEYS.water(project.id, project.frame.mark, asked),
    queryFn: ({ signal }) => call<Water>("POST", `/projects/${project.id}/water`, asked, signal),
    enabled: heights.length > 0 && (ground ? bounds !== null : held !== undefined && lakes.length > 0),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const water = error ? undefined : data;
  const inkOf = useMemo(() => {
    const others = heights.filter((one) => one.key !== a?.key && one.key !== b?.key).map((one) => one.id);
    return (id: number) => {
      const key = heights.find((one) => one.id === id)?.key;
      if (key !== undefined && key === a?.key) return SLOT_INKS.a;
      if (key !== undefined && key === b?.key) return SLOT_INKS.b;
      return INKS[(others.indexOf(id) + 1) % INKS.length] as string;
    };
  }, [heights, a, b]);
  const shores = useMemo(
    () =>
      water?.basins
        .filter((one) => all || [a?.id, b?.id, water.to].includes(one.id))
        .flatMap((one) => (one.shore ?? []).map((line) => ({ line, ink: inkOf(one.id) }))) ?? null,
    [water, inkOf, all, a, b],
  );
  useOverlay("inked", shores);
  const here = typed ?? water?.level ?? null;
  // while it is dragged, figures are read off the curves
  const exact = water?.level === here;
  const go = (number: number) => {
    const one = lakes[number];
    if (one)
      set({
        goTo: { x: one.at[0], y: one.at[1], resolution: ((3 * Math.sqrt(one.area)) / 600) * perMetre },
      });
  };
  const [low, high] = [water?.levels[0] ?? 0, water?.levels.at(-1) ?? 1];
  const against = water?.basins.find((one) => one.id === water.to);
  return (
    <Sheet
      stage="Judge"
      title="Water level"
      lead="Water to a level in every surface: how much lies under it, and where its shore runs."
    >
      <Section
        title="Where"
        aside={
          !ground &&
          lakes.length > 0 && (
            <Button kind="link" onClick={() => go(lake)}>
              Go there
            </Button>
          )
        }
      >
        <Row label="Under water">
          <Segments
            label="Under water"
            value={ground ? "view" : "lake"}
            options={[
              { value: "lake", title: "a lake" },
              { value: "view", title: "what is low in view" },
            ]}
            onChange={(one) => {
              setInView(one === "view");
              setTyped(null);
            }}
          />
        </Row>
        {ground ? null : areas.length ? (
          <HoldingChoice
            label="Polygons"
            holdings={areas}
            value={held?.id}
            onChange={(id) => {
              setChosen(id);
              setLake(0);
              setTyped(null);
            }}
          />
        ) : (
          <p className="mut">There are no polygons here yet. Fetch lakes under Gather, or add a file of them.</p>
        )}
        {!ground && noLakes && <Refusal sentence={noLakes.message} />}
        {!ground && lakes.length > 0 && (
          <Choice
            label="Lake"
            value={String(lake)}
            options={lakes.map((one) => ({
              value: String(one.number),
              title: `${one.name || `number ${one.number + 1}`}, ${areaOf(one.area)}`,
            }))}
            onChange={(one) => {
              setLake(Number(one));
              setTyped(null);
              go(Number(one));
            }}
          />
        )}
        {!heights.length && <p className="mut">There are no surfaces of heights yet. Build or order some.</p>}
      </Section>
      {error && <Refusal sentence={error.message} />}
      {water && here !== null && (
        <Section title="Its level" aside={isFetching ? "…" : undefined}>
          <Slide
            label="Level"
            range={[Math.floor(low * 10) / 10, Math.ceil(high * 10) / 10, 0.05]}
            value={here}
            shown={`${num(here, 2)} m`}
            onChange={setTyped}
          />
          <NumberField label="Exactly" unit="m" value={Math.round(here * 100) / 100} onChange={setTyped} />
          <WaterChart water={water} ink={inkOf} level={here} onLevel={setTyped} />
          <Check label="Shores of all surfaces on the map, not of A and B alone" checked={all} onChange={setAll} />
          <table className={`t tight ${styles.table}`} aria-label="Water in each surface">
            <thead>
              <tr>
                <th className="w">surface</th>
                {!ground && (
                  <th title="Median height of its cells in the lake, and what 95 % of them stay within">
                    lake lies at
                  </th>
                )}
                <th>area</th>
                <th title="hm³: million cubic metres">volume</th>
              </tr>
            </thead>
            <tbody>
              {water.basins.map((one) => (
                <tr key={one.id}>
                  <td className="w" title={one.name}>
                    <i className={styles.ink} style={{ background: inkOf(one.id) }} />
                    {one.name}
                  </td>
                  {one.reason ? (
                    <td colSpan={ground ? 2 : 3} className="mut w">
                      {one.reason}
                    </td>
                  ) : (
                    <>
                      {!ground && (
                        <td className="n">
                          {num(one.level ?? 0, 2)} m
                          <br />
                          <span className="mut">
                            {one.flatness === null || one.flatness === undefined
                              ? "empty"
                              : `± ${num(one.flatness, 2)}`}
                          </span>
                        </td>
                      )}
                      <td className="n">
                        {areaOf(exact ? (one.area ?? 0) : between(water.levels, one.areas ?? [], here))}
                      </td>
                      <td className="n">
                        {volumeOf(exact ? (one.volume ?? 0) : between(water.levels, one.volumes ?? [], here))}
                        {one.spilled && (
                          <>
                            <br />
                            <span
                              className="mut"
                              title="Water would run out of the part that is looked at around the lake"
                            >
                              runs out
                            </span>
                          </>
                        )}
                      </td>
                    </>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </Section>
      )}
      {water && against && (
        <Section title={`Against ${against.name}`}>
          {water.basins
            .filter((one) => one.unlike)
            .map((one) => (
              <Unlike key={one.id} one={one} to={against.name} />
            ))}
          {!ground && (
            <table className={`t tight ${styles.table} ${styles.rim}`} aria-label="Rim of the lake">
              <thead>
                <tr>
                  <th className="w">rim</th>
                  <th title="Height below which 5 % of the outline lie">lowest 5 %</th>
                  <th>middle</th>
                  <th title={`Median of the differences to ${against.name} along the outline`}>apart</th>
                </tr>
              </thead>
              <tbody>
                {water.basins
                  .filter((one) => !one.reason)
                  .map((one) => (
                    <tr key={one.id}>
                      <td className="w" title={one.name}>
                        {one.name}
                      </td>
                      <td className="n">{one.rim?.[0] == null ? "–" : `${num(one.rim[0], 2)} m`}</td>
                      <td className="n">{one.rim?.[1] == null ? "–" : `${num(one.rim[1], 2)} m`}</td>
                      <td className="n">{one.unlike?.rim == null ? "" : `${signed(one.unlike.rim)} m`}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          )}
        </Section>
      )}
    </Sheet>
  );
}
