import type { Scorecard } from "../api/client";
import { useHeld } from "../desk/context";
import { num } from "../desk/format";
import { Swing } from "../stages/judge/Swing";
import { Button } from "../ui/Button";
import styles from "./judge.module.css";
import { useJudgeState } from "./state";
import { useMoveAway } from "./useMoveAway";

interface Props {
  card: Scorecard;
  row: Scorecard["rows"][number];
  unit: string;
  span: number;
}

/** What is told of a surface without known heights. */
function Untold({ row, unit }: Pick<Props, "row" | "unit">) {
  const { roughness, noise, parallax } = row;
  if (roughness == null && noise == null && !parallax) return null;
  return (
    <p
      className="mut"
      title="Roughness: what of the differences from cell to cell is noise. Noise: from the differences of all surfaces here, if their errors are independent."
    >
      Without known heights:{" "}
      {roughness != null && (
        <>
          roughness <span className="n">{num(roughness, 2)}</span> {unit} from cell to cell
        </>
      )}
      {roughness != null && noise != null && ", "}
      {noise != null && (
        <>
          noise of about <span className="n">{num(noise, noise < 10 ? 2 : 1)}</span> {unit} by comparing all of them
        </>
      )}
      {parallax && (
        <>
          {(roughness != null || noise != null) && "; "}the rays of its images miss each other by{" "}
          <span className="n">{num(parallax.cells, 2)}</span> cells at <span className="n">{num(parallax.ties)}</span>{" "}
          tie points, as much as <span className="n">{num(parallax.height, 2)}</span> {unit} of height
        </>
      )}
      .
    </p>
  );
}

/** What more is known of a row: where it lies, and every pair of classes. */
export function Unfolded({ card, row, unit, span }: Props) {
  const { set, pressed } = useJudgeState();
  const away = useMoveAway();
  const { surfaces: judged } = useHeld();
  const { moved, not_moved: why } = row;
  const said = card.findings.filter((one) => one.surface === row.id);
  const reach = moved ? Math.max(moved.distance * 1.4, ...moved.swing.map((one) => Math.abs(one ?? 0)), 0.1) : 1;
  return (
    <tr className={styles.unfolded}>
      <td colSpan={span}>
        <div className={moved ? styles.details : ""}>
          <div>
            {said.map(({ cause, finding }) => (
              <p key={cause}>
                <b>{finding.sentence}</b> {finding.why}
              </p>
            ))}
            {moved ? (
              <>
                <p>
                  Taken off here: <b className="n">{num(moved.distance, moved.distance < 10 ? 2 : 1)}</b> m towards{" "}
                  <b className="n">{num(moved.direction)}</b>°, known to{" "}
                  <span className="n">{num(Math.hypot(moved.errors[0] ?? 0, moved.errors[1] ?? 0), 1)}</span> m, and{" "}
                  <b className="n">{num(moved.up, 2)}</b> m of height, against{" "}
                  {judged.find((one) => one.id === card.onto)?.name ?? "the reference"}.
                </p>
                <p className="acts">
                  <Button onClick={() => away(row.id, moved)}>Keep it so</Button>
                </p>
              </>
            ) : why ? (
              <p>{why}</p>
            ) : (
              card.onto !== row.id && (
                <p className="acts">
                  <Button onClick={() => set({ removed: true })}>Remove the shift</Button>
                </p>
              )
            )}
            <Untold row={row} unit={unit} />
            {card.onto === row.id && <p>The others are put right against this one.</p>}
            {!said.length && !moved && !why && <p className="mut">Its errors say nothing else of it.</p>}
          </div>
          {moved && (
            <div className={styles.pair}>
              <Swing
                title="As delivered"
                aspect={moved.aspect}
                swing={moved.swing}
                dots={moved.dots}
                cosine={moved}
                reach={reach}
              />
              <Swing
                title="Shift removed"
                aspect={moved.aspect}
                swing={moved.swing_after}
                dots={moved.dots_after}
                cosine={null}
                reach={reach}
              />
            </div>
          )}
        </div>
        {card.second && row.crossed.length > 0 && (
          <table className={styles.grid} aria-label={`${row.name} by ${card.split.title} and ${card.second.title}`}>
            <thead>
              <tr>
                <th>LE95, {unit}</th>
                {card.second.names.map((name) => (
                  <th key={name}>{name}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {row.crossed.map((cells, part) => (
                <tr key={card.split.names[part]}>
                  <th>{card.split.names[part]}</th>
                  {cells.map((one, second) => (
                    <td key={card.second?.names[second]} className="n">
                      {one ? (
                        <Button
                          kind="bare"
                          aria-pressed={
                            pressed?.surface === row.id && pressed.part === part && pressed.second === second
                          }
                          title={`${num(one.count)} places${one.few ? ": few" : ""}`}
                          onClick={() => set({ pressed: { surface: row.id, part, second, outliers: false } })}
                        >
                          <span className={one.few ? styles.few : ""}>{num(one.le95, 2)}</span>
                        </Button>
                      ) : (
                        "–"
                      )}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </td>
    </tr>
  );
}
