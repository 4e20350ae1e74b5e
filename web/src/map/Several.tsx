import { MenuItem, Select } from "@mui/material";
import type View from "ol/View";
import { useEffect, useId, useMemo, useState } from "react";
import { useProbe } from "../api/queries";
import { inputOf, useProject } from "../desk/context";
import { num, parse, shortUnit, size } from "../desk/format";
import type { Overlay } from "../desk/overlays";
import { useDesk } from "../desk/store";
import { type Compared, MOST_COMPARED, useCompared } from "../desk/useCompared";
import { useReading } from "../desk/useReading";
import { Button } from "../ui/Button";
import { Entry } from "../ui/Entry";
import { MapPane } from "./MapPane";
import styles from "./several.module.css";
import { originOf } from "./surfaceLayer";
import { useContoursInView } from "./useContoursInView";
import { useShown } from "./useShown";
import type { Drawn } from "./useSurfaces";

interface Props {
  view: View;
  /** Backdrops below and over surfaces. */
  among: (surfaces: Drawn[]) => Drawn[];
  onBusy: (busy: boolean) => void;
  onPin: () => void;
}

/** Where the pointer is on the other panes. */
function Cross({ view }: { view: View }) {
  const { grid } = useProject().frame;
  const pointer = useDesk((desk) => (desk.overMap ? desk.pointer : null));
  const [west, south] = originOf(grid);
  const [x, y] = view.getCenter() ?? [0, 0];
  const pixel = view.getResolution() ?? 1;
  if (!pointer || x === undefined || y === undefined) return null;
  const [right, down] = [(pointer[0] - west - x) / pixel, (y - (pointer[1] - south)) / pixel];
  return (
    <span
      className={styles.cross}
      style={{ left: `calc(50% + ${right}px)`, top: `calc(50% + ${down}px)` }}
      aria-hidden="true"
    />
  );
}

/** One of the surfaces: its map, its contours, its name, and its height under the pointer. */
function Part({
  of,
  every,
  height,
  view,
  among,
  onBusy,
  onPin,
}: Props & {
  of: Compared;
  every: number | null;
  height: number | null | undefined;
}) {
  const project = useProject();
  const owner = useId();
  const { holding, ink, letter, leave } = of;
  const shown = useShown(holding);
  const unit = shortUnit(project.frame.unit);
  const drawn = useMemo(
    () => among(shown ? [{ id: holding.key, ...shown, from: 0, to: 1 }] : []),
    [among, shown, holding.key],
  );
  const { lines, failed } = useContoursInView(
    project.id,
    every === null
      ? null
      : {
          operation: "contours",
          inputs: { surface: inputOf(holding) },
          params: { interval: every, unit: project.frame.unit },
        },
  );
  const graticule = useDesk((desk) => desk.overlays.find(({ kind }) => kind === "graticule"));
  const own = useMemo(
    (): Overlay[] => [
      ...(graticule ? [graticule] : []),
      ...(lines ? [{ owner, kind: "contours" as const, shown: { lines, unit } }] : []),
    ],
    [graticule, lines, owner, unit],
  );
  return (
    <section className={styles.part} aria-label={holding.name}>
      <MapPane view={view} drawn={drawn} own={own} label={`Map of ${holding.name}`} onBusy={onBusy} onPin={onPin} />
      <Cross view={view} />
      <div className={styles.label}>
        <i style={{ background: ink }}>{letter}</i>
        <em title={holding.name}>{holding.name}</em>
        <span className="n mut">{size(holding.surface?.cell_size ?? 0)} m</span>
        {height !== undefined && <b className="n">{height === null ? "empty" : `${num(height, 2)} ${unit}`}</b>}
        {failed && (
          <span className="fail" title={failed}>
            no contours
          </span>
        )}
        {leave && (
          <Button kind="link" aria-label={`Leave ${holding.name} out`} onClick={leave}>
            ×
          </Button>
        )}
      </div>
    </section>
  );
}

/** Up to six surfaces over the same ground, dressed alike, with contours at one interval. */
export function Several(props: Props) {
  const project = useProject();
  const { shown, others, add } = useCompared();
  const every = useDesk((desk) => desk.contoursEvery);
  const set = useDesk((desk) => desk.set);
  const { at } = useReading();
  const id = useId();
  const [text, setText] = useState<string | null>(null);
  const { data } = useProbe(
    project.id,
    at,
    null,
    null,
    shown.map(({ holding }) => holding.key),
  );
  const { view } = props;
  // panes are smaller than the whole map was
  // biome-ignore lint/correctness/useExhaustiveDependencies: each time there are more or fewer
  useEffect(() => view.changed(), [view, shown.length]);
  const typed = text === null ? null : parse(text);
  return (
    <>
      <div className={styles.several} data-count={shown.length} role="group" aria-label="Surfaces side by side">
        {shown.map((one) => (
          <Part
            key={one.holding.id}
            {...props}
            of={one}
            every={every}
            height={at && data ? (data.others[one.holding.key] ?? null) : undefined}
          />
        ))}
      </div>
      <div className={styles.bar}>
        {others.length > 0 ? (
          <Select
            variant="standard"
            disableUnderline
            displayEmpty
            value=""
            onChange={(event) => add(event.target.value)}
            renderValue={() => "Add a surface"}
            inputProps={{ "aria-label": "Add a surface" }}
          >
            {others.map((one) => (
              <MenuItem key={one.key} value={one.key}>
                {one.name}&nbsp;<span className="mut n">{size(one.surface?.cell_size ?? 0)} m</span>
              </MenuItem>
            ))}
          </Select>
        ) : (
          <span className="mut">{shown.length === MOST_COMPARED ? "six at most" : "no other surface of heights"}</span>
        )}
        <label htmlFor={id}>
          Contours every
          <span className={styles.every}>
            <Entry
              id={id}
              figures
              inputMode="decimal"
              value={text ?? (every === null ? "" : String(every))}
              unit={shortUnit(project.frame.unit)}
              placeholder="none"
              bad={text !== null && text.trim() !== "" && !(typed !== null && typed > 0)}
              onChange={(next) => {
                setText(next);
                const number = parse(next);
                if (next.trim() === "") set({ contoursEvery: null });
                else if (number !== null && number > 0) set({ contoursEvery: number });
              }}
              onBlur={() => setText(null)}
            />
          </span>
        </label>
      </div>
    </>
  );
}
