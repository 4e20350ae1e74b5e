import { useMemo } from "react";
import { num } from "../../desk/format";
import { useOverlay } from "../../desk/overlays";
import { useDesk } from "../../desk/store";
import { opposite } from "../../judge/useMoveAway";
import { useRuler } from "../../mend/useMended";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/Sheet";
import { OperationSheet } from "../OperationSheet";
import { useFacts } from "../useFacts";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";
import { Swing } from "./Swing";
import styles from "./shift.module.css";

interface Fitness {
  mean: number;
  rmse: number;
  nmad: number;
  cells: number;
}

/** Where a surface lies: as the operation `shift` tells it, in metres, and metres a kilometre. */
export interface Found {
  east: number;
  north: number;
  up: number;
  tilt: [number, number];
  errors: [number, number, number, number, number];
  at: [number, number];
  distance: number;
  direction: number;
  cell: number;
  before: Fitness;
  after: Fitness;
  aspect: number[];
  swing: (number | null)[];
  swing_after: (number | null)[];
  dots: [number, number][];
  dots_after: [number, number][];
  pieces?: Piece[];
}

/** A piece of the ground, with its middle in frame coordinates; a reason where nothing could be told. */
interface Piece {
  row: number;
  col: number;
  at: [number, number];
  reason: string;
  east?: number;
  north?: number;
  up?: number;
  errors?: number[];
  distance?: number;
  direction?: number;
}

const SURE = 2; // standard errors within which something is as good as nothing

const signed = (value: number, digits = 2) => `${value > 0 ? "+" : ""}${num(value, digits)}`;

/** How far a surface lies beside, above and askew of another; and the way to put it right. */
export function ShiftSheet() {
  const work = useWorksheet("shift");
  const { chosen } = useRole(work, "surface");
  const against = useRole(work, "reference").chosen;
  const found = useFacts<Found>(work);
  return (
    <OperationSheet
      work={work}
      name={`Shift of ${chosen?.name} against ${against?.name}`}
      lead="Where two surfaces of one ground lie beside each other, their difference swings with the aspect of the slopes."
      foot={{ action: "Find the shift", makes: null, made: () => null }}
      parts={[{ title: "What goes in", of: ["in:surface", "in:reference", "tilt", "pieces"] }]}
      after={found && chosen && <Told found={found} name={chosen.name} id={chosen.id} tilted={work.params.tilt} />}
    />
  );
}

function Told({ found, name, id, tilted }: { found: Found; name: string; id: number; tilted: boolean }) {
  const open = useDesk((desk) => desk.open);
  const sheet = useDesk((desk) => desk.sheet);
  const [east, north, up] = found.errors;
  const beside = Math.hypot(found.east / east, found.north / north) > SURE;
  const above = Math.abs(found.up) > SURE * up;
  const reach = Math.max(found.distance * 1.4, ...found.swing.map((one) => Math.abs(one ?? 0)), 0.1);
  return (
    <Section title="Where it lies" aside={`cells of ${num(found.cell, found.cell < 10 ? 1 : 0)} m`}>
      <p className={styles.lies}>
        {name}{" "}
        {beside ? (
          <>
            lies <b className="n">{num(found.distance, found.distance < 10 ? 2 : 1)}</b> m towards{" "}
            <b className="n">{num(found.direction, 0)}</b>°
          </>
        ) : (
          "lies nowhere beside it"
        )}
        {above ? (
          <>
            {" "}
            and stands <b className="n">{num(Math.abs(found.up), 2)}</b> m {found.up > 0 ? "higher" : "lower"}.
          </>
        ) : (
          " and stands as high."
        )}
      </p>
      <table className="t tight" aria-label="Where it lies">
        <thead>
          <tr>
            <th className="w">lies</th>
            <th>by</th>
            <th title="Of blocks of the ground left out in turn">standard error</th>
          </tr>
        </thead>
        <tbody>
          {(
            [
              ["to the east", found.east, east, "m"],
              ["to the north", found.north, north, "m"],
              ["above", found.up, up, "m"],
              ...(tilted
                ? [
                    ["rising to the east", found.tilt[0], found.errors[3], "m/km"],
                    ["rising to the north", found.tilt[1], found.errors[4], "m/km"],
                  ]
                : []),
            ] as [string, number, number, string][]
          ).map(([word, value, error, unit]) => (
            <tr key={word}>
              <td className="w">{word}</td>
              <td className="n">
                {signed(value)} {unit}
              </td>
              <td className="n">
                {num(error, 3)} {unit}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Swing
        title="As delivered"
        aspect={found.aspect}
        swing={found.swing}
        dots={found.dots}
        cosine={found}
        reach={reach}
      />
      <Swing
        title="Put right"
        aspect={found.aspect}
        swing={found.swing_after}
        dots={found.dots_after}
        cosine={null}
        reach={reach}
      />
      <p className="mut small-print">
        RMSE <span className="n">{num(found.before.rmse, 2)}</span> →{" "}
        <span className="n">{num(found.after.rmse, 2)}</span> m, NMAD{" "}
        <span className="n">{num(found.before.nmad, 2)}</span> → <span className="n">{num(found.after.nmad, 2)}</span>{" "}
        m, of <span className="n">{num(found.after.cells)}</span> cells.
      </p>
      {found.pieces && found.pieces.length > 0 && <Pieces pieces={found.pieces} cell={found.cell} />}
      <div className="acts">
        <Button
          onClick={() => {
            sheet("move", {
              inputs: { surface: id },
              params: {
                east: opposite(found.east),
                north: opposite(found.north),
                up: opposite(found.up),
                tilt_east: opposite(found.tilt[0]),
                tilt_north: opposite(found.tilt[1]),
                ...(tilted ? { about_x: found.at[0], about_y: found.at[1] } : {}),
              },
              name: "",
            });
            open("Judge", "move");
          }}
        >
          Put it right
        </Button>
      </div>
    </Section>
  );
}

const LONG = 0.35; // of the way between two pieces that the longest arrow takes
const BARB = 0.3;

/** An arrow over the map, from a place as far as a shift that is drawn so many times as long. */
export function arrow([x, y]: [number, number], dx: number, dy: number): [number, number][] {
  const tip: [number, number] = [x + dx, y + dy];
  const barb = (turn: number): [number, number] => [
    tip[0] - BARB * (dx * Math.cos(turn) - dy * Math.sin(turn)),
    tip[1] - BARB * (dx * Math.sin(turn) + dy * Math.cos(turn)),
  ];
  return [[x, y], tip, barb(0.5), tip, barb(-0.5)];
}

/** Where the surface lies in each piece of the ground, as a table and as arrows on the map. */
function Pieces({ pieces, cell }: { pieces: Piece[]; cell: number }) {
  const { perMetre } = useRuler();
  const arrows = useMemo(() => {
    const told = pieces.filter((one) => one.distance !== undefined);
    const xs = told.map((one) => one.at[0]);
    const ys = told.map((one) => one.at[1]);
    const wide = Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys), cell * perMetre);
    const apart = wide / Math.max(Math.sqrt(told.length), 1);
    const longest = Math.max(...told.map((one) => one.distance ?? 0), 1e-6);
    const scale = (LONG * apart) / longest;
    return told.map((one) => ({
      line: arrow(one.at, (one.east ?? 0) * scale, (one.north ?? 0) * scale),
      ink: "#3C4E9E",
    }));
  }, [pieces, cell, perMetre]);
  useOverlay("inked", arrows);
  return (
    <>
      <table className="t tight" aria-label="Piece by piece">
        <thead>
          <tr>
            <th className="w" title="Row from the north, column from the west">
              piece
            </th>
            <th>beside</th>
            <th>above</th>
          </tr>
        </thead>
        <tbody>
          {pieces.map((one) => (
            <tr key={`${one.row} ${one.col}`}>
              <td className="w n">
                {one.row + 1}, {one.col + 1}
              </td>
              {one.distance === undefined ? (
                <td colSpan={2} className="mut w">
                  {one.reason}
                </td>
              ) : (
                <>
                  <td className="n">
                    {num(one.distance, one.distance < 10 ? 2 : 1)} m at {num(one.direction ?? 0)}°
                  </td>
                  <td className="n">{signed(one.up ?? 0)} m</td>
                </>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mut small-print">
        Arrows on the map show how each piece lies beside the other, drawn longer than it is.
      </p>
    </>
  );
}
