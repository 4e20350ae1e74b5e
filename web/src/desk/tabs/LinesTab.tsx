import { Checkbox } from "@mui/material";
import type { Holding } from "../../api/client";
import { useMe } from "../../api/queries";
import { isBackdrop } from "../../map/backdrops";
import { type Dress, INKS } from "../../map/dress";
import { useDress } from "../../map/useDressed";
import { bearsHeights, isVisible } from "../../map/visible";
import { Button } from "../../ui/Button";
import { Check } from "../../ui/Check";
import { Slide } from "../../ui/Slide";
import { useHeld, useProject } from "../context";
import { MadeAndDelete } from "../Deleted";
import { num } from "../format";
import { Caret } from "../icons";
import { useDesk } from "../store";
import { FeatureTable } from "./FeatureTable";
import styles from "./linesTab.module.css";

/** What a holding of points, lines or a cloud is, in a few words. */
export function whatIsHeld(holding: Holding, judging: boolean) {
  if (holding.points)
    return (
      <>
        <span className="n">{num(holding.points.count)}</span> points, heights in {holding.points.unit}
        {judging && ", judging the surfaces"}
      </>
    );
  if (holding.cloud)
    return (
      <>
        <span className="n">{num(holding.cloud.count)}</span> points, one in{" "}
        <span className="n">{num(holding.cloud.spacing, 2)}</span> m
      </>
    );
  if (holding.image)
    return (
      <>
        image of{" "}
        <span className="n">
          {num(holding.image.cols)} × {num(holding.image.rows)}
        </span>{" "}
        cells, <span className="n">{num(holding.image.ground_size, 2)}</span> m each
      </>
    );
  if (holding.picture)
    return (
      <>
        picture of{" "}
        <span className="n">
          {num(holding.picture.cols)} × {num(holding.picture.rows)}
        </span>{" "}
        cells, <span className="n">{num(holding.picture.cell, 2)}</span> m each
      </>
    );
  if (holding.surface)
    return (
      <>
        grey values, <span className="n">{num(holding.surface.cell_size, 2)}</span> m cells
      </>
    );
  const counts = Object.entries(holding.features?.counts ?? {});
  return counts.map(([kind, count], i) => (
    <span key={kind}>
      {i > 0 && ", "}
      <span className="n">{num(count)}</span> {count === 1 ? kind.slice(0, -1) : kind}
    </span>
  ));
}

function Small(props: {
  label: string;
  value: string;
  options: [string, string][];
  onChange: (value: string) => void;
}) {
  return (
    <label className="small">
      <span>{props.label}</span>
      <select value={props.value} onChange={(event) => props.onChange(event.target.value)}>
        {props.options.map(([value, title]) => (
          <option key={value} value={value}>
            {title}
          </option>
        ))}
      </select>
    </label>
  );
}

/** How one holding is drawn: colour, width, label and what of it. */
function Dressing({ holding }: { holding: Holding }) {
  const dress = useDress()(holding);
  const all = useDesk((desk) => desk.dress);
  const set = useDesk((desk) => desk.set);
  const change = (what: Partial<Dress>) => set({ dress: { ...all, [holding.id]: { ...all[holding.id], ...what } } });
  const columns = Object.keys(holding.features?.attributes ?? {});
  const texts = columns.filter((column) => holding.features?.attributes[column] === "text");
  const codes = Object.keys(holding.points?.codes ?? {});
  const classes = Object.entries(holding.cloud?.class_names ?? {});
  if (isBackdrop(holding))
    return (
      <div className={styles.dressing}>
        <Small
          label="lies"
          value={dress.over ? "over" : "under"}
          options={[
            ["over", "over surfaces"],
            ["under", "under surfaces"],
          ]}
          onChange={(place) => change({ over: place === "over" })}
        />
        <div className="opacity">
          <Slide
            label="Opacity"
            range={[0.05, 1, 0.05]}
            value={dress.opacity}
            shown={`${num(100 * dress.opacity)} %`}
            onChange={(opacity) => change({ opacity })}
          />
        </div>
        <p className="mut">
          {dress.over
            ? "It lies over A and B on the map, and is laid over the ground in 3D."
            : "On the map it shows where A and B are empty. In 3D it is laid over the ground."}
        </p>
      </div>
    );
  return (
    <div className={styles.dressing}>
      {holding.cloud ? (
        <>
          <Small
            label="coloured by"
            value={dress.by}
            options={[
              ["height", "height"],
              ["class", "class"],
              ["intensity", "intensity"],
              ["return", "return"],
            ]}
            onChange={(by) => change({ by: by as Dress["by"] })}
          />
          <Small
            label="show"
            value={dress.filter}
            options={[["", "every class"], ...classes.map(([code, name]): [string, string] => [`class=${code}`, name])]}
            onChange={(filter) => change({ filter })}
          />
        </>
      ) : (
        <>
          {holding.points && (
            <Small
              label="coloured by"
              value={dress.by}
              options={[
                ["one", "one colour"],
                ["height", "height"],
                ...(codes.length > 1 ? [["code", "code"] as [string, string]] : []),
              ]}
              onChange={(by) => change({ by: by as Dress["by"] })}
            />
          )}
          {texts.length > 0 && (
            <Small
              label="coloured by"
              value={dress.by === "column" ? dress.column : ""}
              options={[["", "one colour"], ...texts.map((column): [string, string] => [column, column])]}
              onChange={(column) => change({ by: column ? "column" : "one", column })}
            />
          )}
          {dress.by === "one" && (
            <span className={styles.inks} role="radiogroup" aria-label={`Colour of ${holding.name}`}>
              {INKS.map((ink) => (
                <button
                  key={ink}
                  type="button"
                  role="radio"
                  aria-checked={dress.colour === ink}
                  aria-label={ink}
                  style={{ background: ink }}
                  onClick={() => change({ colour: ink })}
                />
              ))}
            </span>
          )}
          {codes.length > 1 && (
            <Small
              label="show"
              value={dress.filter}
              options={[["", "every code"], ...codes.map((code): [string, string] => [`code=${code}`, code])]}
              onChange={(filter) => change({ filter })}
            />
          )}
          {holding.features && (
            <>
              <Small
                label="width"
                value={String(dress.width)}
                options={[0.8, 1.4, 2, 3].map((width) => [String(width), `${width} px`])}
                onChange={(width) => change({ width: Number(width) })}
              />
              <Small
                label="label"
                value={dress.label}
                options={[["", "none"], ...columns.map((column): [string, string] => [column, column])]}
                onChange={(label) => change({ label, unit: /elev|height|^z$/i.test(label) ? "m" : "" })}
              />
              <Small
                label="from"
                value={String(dress.labelFrom)}
                options={[
                  ["2", "close"],
                  ["4", "half close"],
                  ["12", "the valley"],
                  ["40", "the whole"],
                ]}
                onChange={(from) => change({ labelFrom: Number(from) })}
              />
            </>
          )}
        </>
      )}
    </div>
  );
}

function Row({ holding, chosen, onChoose }: { holding: Holding; chosen: boolean; onChoose: () => void }) {
  const project = useProject();
  const hidden = useDesk((desk) => desk.hidden);
  const set = useDesk((desk) => desk.set);
  const judging = project.checkpoints_id === holding.id;
  const shown = isVisible(holding, hidden, useMe().data?.id);
  return (
    <li className={chosen ? "on" : ""}>
      <Checkbox
        size="small"
        sx={{ padding: "2px" }}
        checked={shown}
        slotProps={{ input: { "aria-label": `Show ${holding.name}` } }}
        onChange={() => set({ hidden: { ...hidden, [holding.id]: shown } })}
      />
      <button type="button" className="pickrow" aria-expanded={chosen} onClick={onChoose}>
        <b>{holding.name}</b>
        <span className="mut">{whatIsHeld(holding, judging)}</span>
        <Caret />
      </button>
    </li>
  );
}

function Chosen({ holding }: { holding: Holding }) {
  const project = useProject();
  const hidden = useDesk((desk) => desk.hidden);
  const set = useDesk((desk) => desk.set);
  return (
    <div className="chosen">
      <header>
        <b>{holding.name}</b>
        {holding.bounds && (
          <Button
            kind="link"
            onClick={() => {
              const [west, south, east, north] = holding.bounds ?? [0, 0, 0, 0];
              set({
                goTo: {
                  x: (west + east) / 2,
                  y: (south + north) / 2,
                  resolution: Math.max((east - west) / 640, (north - south) / 440, 0.2),
                },
                hidden: { ...hidden, [holding.id]: false },
              });
            }}
          >
            Go there
          </Button>
        )}
        {holding.uploaded && (
          <a className="lnk" href={`/api/projects/${project.id}/holdings/${holding.id}/original`}>
            Download the file
          </a>
        )}
        {holding.features && (
          <a className="lnk" href={`/api/projects/${project.id}/holdings/${holding.id}/geopackage`}>
            Download as GeoPackage
          </a>
        )}
        <MadeAndDelete holding={holding} />
      </header>
      {holding.image ? (
        <p className="mut">On the map an image is the outline of the ground it sees.</p>
      ) : (
        <Dressing holding={holding} />
      )}
      {holding.cloud && (
        <table className="t tight" aria-label={`Classes of ${holding.name}`}>
          <thead>
            <tr>
              <th>class</th>
              <th className="w">name</th>
              <th>points</th>
              <th>share</th>
            </tr>
          </thead>
          <tbody>
            {Object.entries(holding.cloud.classes).map(([code, count]) => (
              <tr key={code}>
                <td className="n">{code}</td>
                <td className="w">{holding.cloud?.class_names[code]}</td>
                <td className="n">{num(count)}</td>
                <td className="n">{num((100 * count) / (holding.cloud?.count ?? 1), 1)} %</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {holding.features && <FeatureTable holding={holding} />}
    </div>
  );
}

/** Points, lines, polygons and clouds: what is shown on the map, and how. */
export function LinesTab() {
  const { points, features, clouds, images, all: held } = useHeld();
  const all = [...points, ...clouds, ...features, ...held.filter(isBackdrop), ...images];
  const id = useDesk((desk) => desk.dressing);
  const mode = useDesk((desk) => desk.mode);
  const over = useDesk((desk) => desk.linesOverMinus);
  const set = useDesk((desk) => desk.set);
  const chosen = all.find((one) => one.id === id) ?? all[0];
  if (!chosen) return <p className="empties">No points or lines yet. Add files, or fetch map features, in Gather.</p>;
  return (
    <div className="lines">
      <ul aria-label="Points and lines">
        {mode === "minus" && all.some(bearsHeights) && (
          <li>
            <Check
              label="Contours over A − B too"
              checked={over}
              onChange={(linesOverMinus) => set({ linesOverMinus })}
            />
          </li>
        )}
        {all.map((holding) => (
          <Row
            key={holding.id}
            holding={holding}
            chosen={holding.id === chosen.id}
            onChoose={() => set({ dressing: holding.id })}
          />
        ))}
      </ul>
      <Chosen key={chosen.id} holding={chosen} />
    </div>
  );
}
