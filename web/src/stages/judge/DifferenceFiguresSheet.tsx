import { num, shortUnit } from "../../desk/format";
import styles from "../../judge/difference.module.css";
import { VariogramOf } from "../../judge/VariogramOf";
import { Section } from "../../ui/Sheet";
import { OperationSheet } from "../OperationSheet";
import { useFacts } from "../useFacts";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

/** What a run tells beside its rows, as the operation `difference_figures` has it. */
export interface Found {
  unit: string;
  cell: number;
  clipped: number;
  lags: number[];
  variogram: number[];
  along: number[];
  model: number[];
  nugget: number;
  reaches: { sill: number; range: number }[];
  means: { area: number; error: number; alone: number }[];
}

const areaOf = (area: number) =>
  area >= 1e6 ? `${num(area / 1e6)} km²` : area >= 1e4 ? `${num(area / 1e4)} ha` : `${num(area)} m²`;
const fine = (value: number) => num(value, value < 0.1 ? 3 : 2);

/** The difference of two surfaces in figures, and what its means over areas are worth. */
export function DifferenceFiguresSheet() {
  const work = useWorksheet("difference_figures");
  const names = [useRole(work, "first").chosen?.name, useRole(work, "second").chosen?.name];
  const found = useFacts<Found>(work);
  return (
    <OperationSheet
      work={work}
      name={`Figures of ${names.filter(Boolean).join(" minus ")}`}
      lead="Errors of neighbouring cells are alike, so that a mean over an area is less sure than its cells promise."
      foot={{ action: "Work them out", makes: ["Table", "a row for each ground"] }}
      parts={[{ title: "What goes in", of: ["in:first", "in:second", "in:cover", "column"] }]}
      after={found && <Told found={found} />}
    />
  );
}

function Told({ found }: { found: Found }) {
  const unit = shortUnit(found.unit);
  const long = found.reaches.at(-1);
  return (
    <Section title="How it hangs together" aside={`cells of ${num(found.cell, found.cell < 10 ? 1 : 0)} m`}>
      <p>
        {long ? (
          <>
            Errors hang together over about <b className="n">{num(long.range)}</b> m
            {found.reaches.length > 1 && (
              <>
                , and most closely over <b className="n">{num(found.reaches[0]?.range)}</b> m
              </>
            )}
            .
          </>
        ) : (
          "Errors of neighbouring cells have nothing in common."
        )}
      </p>
      <VariogramOf {...found} unit={unit} />
      <table className={`t tight ${styles.means}`} aria-label="Means over areas">
        <thead>
          <tr>
            <th className="w">mean over</th>
            <th title="One standard error, with what neighbouring cells share">standard error</th>
            <th title="If each cell erred alone">cells alone</th>
          </tr>
        </thead>
        <tbody>
          {found.means.map((one) => (
            <tr key={one.area}>
              <td className="w">{areaOf(one.area)}</td>
              <td className="n">
                {fine(one.error)} {unit}
              </td>
              <td className="n mut">
                {fine(one.alone)} {unit}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mut small-print">
        {found.clipped > 0.0005 && (
          <>
            <span className="n">{num(100 * found.clipped, 1)} %</span> of the cells lie farther than six NMAD from the
            median and were cut off there.{" "}
          </>
        )}
        Figures by ground are in the table, under Tables.
      </p>
    </Section>
  );
}
