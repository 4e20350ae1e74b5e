import { useFigures } from "../../api/queries";
import { quantityOf, unitOf, useHeld, useProject } from "../context";
import { num, percent } from "../format";
import { useDesk } from "../store";

/** Figures of A and B, over all their cells and over the view. */
export function HeightsTab() {
  const project = useProject();
  const { a, b } = useHeld();
  const bounds = useDesk((desk) => desk.bounds);
  const held = [a, b].flatMap((one, i) => (one?.surface ? [{ one, surface: one.surface, slot: "AB"[i] }] : []));
  const rounded = bounds?.map((value) => Math.round(value)) ?? null;
  const { data } = useFigures(
    project.id,
    held.map(({ one }) => one.key),
    rounded,
    rounded !== null,
  );
  if (!held.length) return <p className="empties">Put a surface in A or B to see its figures.</p>;
  return (
    <div className="tabpad">
      <table className="t">
        <thead>
          <tr>
            <th>Surface</th>
            <th>over</th>
            <th>lowest</th>
            <th>2 %</th>
            <th>mean</th>
            <th>98 %</th>
            <th>highest</th>
            <th>std dev</th>
            <th>empty</th>
          </tr>
        </thead>
        <tbody>
          {held.flatMap(({ one, surface, slot }) => {
            const unit = unitOf(quantityOf(one), surface.unit);
            const all = surface.statistics;
            const view = data?.[one.key];
            const cell = (value: number | null | undefined) => (
              <td>
                <span className="n">{num(value, 2)}</span> {value == null ? "" : unit}
              </td>
            );
            return [
              <tr key={`${slot}all`}>
                <td>
                  <span className={slot === "A" ? "chipa" : "chipb"}>{slot}</span>
                  {one.name}
                </td>
                <td>all its cells</td>
                {cell(all.lowest)}
                <td />
                {cell(all.mean)}
                <td />
                {cell(all.highest)}
                {cell(all.deviation)}
                <td className="n">{percent(all.empty / all.cells)}</td>
              </tr>,
              <tr key={`${slot}view`}>
                <td />
                <td>
                  this view, <span className="n">{num(view?.cell)}</span> m cells
                </td>
                {cell(view?.low)}
                {cell(view?.low2)}
                {cell(view?.mean)}
                {cell(view?.high98)}
                {cell(view?.high)}
                <td />
                <td className="n">{view ? percent(view.empty) : ""}</td>
              </tr>,
            ];
          })}
        </tbody>
      </table>
    </div>
  );
}
