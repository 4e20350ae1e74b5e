import Feature from "ol/Feature";
import { LineString, Point, Polygon } from "ol/geom";
import { Circle, Fill, Stroke, Style, Text } from "ol/style";
import type { Space } from "../map/space";
import { token } from "../ui/theme";
import { WINDOW } from "./state";
import type { Tie } from "./usePair";

const [lake, ink, paper, ember] = [token("lake"), token("ink"), token("paper"), token("ember")];
const halo = new Stroke({ color: paper, width: 3 });
const LONGEST = 1.5; // cells of a residual that is drawn: more is a blunder, and would cross the image
const [WIDEST, TALLEST] = [62, 18]; // pixels of a label and what keeps it from the next
const FONT = `500 11px ${token("mono")}`;

const styled = (feature: Feature, ...styles: Style[]) => {
  feature.setStyle(styles);
  return feature;
};

const ring = (radius: number, colour: string, width = 2) => [
  new Style({ image: new Circle({ radius, stroke: new Stroke({ color: paper, width: width + 2 }) }) }),
  new Style({ image: new Circle({ radius, stroke: new Stroke({ color: colour, width }) }) }),
];

/** A tie point as a ring, with a stick as long as both rays miss each other, along `across`; thin where it is left out. */
export function tieMarks(
  ties: Tie[],
  side: "left" | "right",
  space: Space,
  sticks: number,
  across: [number, number],
  at: number | null,
  press: (number: number) => void,
): Feature[] {
  return ties.flatMap((tie) => {
    const place = space.toPane(tie[side]);
    const colour = tie.used ? lake : ink;
    const way = side === "left" ? 1 : -1;
    const size = Math.min(tie.residual ?? 0, LONGEST) * sticks * way;
    const made = [
      styled(
        new Feature({ geometry: new LineString([place, [place[0] + across[0] * size, place[1] + across[1] * size]]) }),
        new Style({ stroke: halo }),
        new Style({ stroke: new Stroke({ color: colour, width: 1.4 }) }),
      ),
      styled(
        new Feature({ geometry: new Point(place), press: () => press(tie.number) }),
        ...ring(tie.used ? 3.4 : 3, colour, tie.used ? 2 : 1),
      ),
    ];
    if (tie.number === at) made.push(styled(new Feature(new Point(place)), ...ring(10, ink)));
    return made;
  });
}

/** The border of the window that is tried. */
export function windowMark([col, row]: readonly number[], space: Space): Feature {
  const half = WINDOW / 2;
  const [c, r] = [col ?? 0, row ?? 0];
  const corners = [
    [c - half, r - half],
    [c + half, r - half],
    [c + half, r + half],
    [c - half, r + half],
    [c - half, r - half],
  ];
  const border = new Feature(new Polygon([corners.map(space.toPane)]));
  return styled(
    border,
    new Style({ stroke: halo }),
    new Style({ stroke: new Stroke({ color: ink, width: 1.4, lineDash: [4, 3] }) }),
  );
}

/** A tie point that was added by hand and is not measured yet. */
export const addedMark = (at: readonly number[], space: Space): Feature =>
  styled(new Feature(new Point(space.toPane(at))), ...ring(4, ember));

/** Where the pointer is. */
export const pointerMark = (at: readonly number[], space: Space): Feature =>
  styled(new Feature(new Point(space.toPane(at))), ...ring(8, ink, 1.6));

export interface Graduation {
  at: [number, number];
  /** What stands beside it; nothing for a mark between. */
  label: string;
}

/** The line in the right image on which a cell of the left one must lie, with heights along it, and where the surface in A puts it. */
export function searchMarks(
  line: Graduation[],
  a: [number, number] | null,
  space: Space,
  resolution: number,
): Feature[] {
  const places = line.map(({ at }) => space.toPane(at));
  const [from = [0, 0], to = [0, 0]] = [places[0], places.at(-1)];
  const level = Math.abs(to[0] - from[0]) > Math.abs(to[1] - from[1]);
  const named = line.flatMap(({ label }, i) => (label ? [i] : []));
  const length = Math.hypot(to[0] - from[0], to[1] - from[1]) / resolution;
  // too short for all of them, it names its ends, and shorter still none
  const room = length / (level ? WIDEST : TALLEST);
  const told = new Set(room > named.length ? named : room > 1 ? [named[0], named.at(-1)] : []);
  const made = [
    styled(
      new Feature(new LineString(places)),
      new Style({ stroke: new Stroke({ color: paper, width: 4 }) }),
      new Style({ stroke: new Stroke({ color: ink, width: 1.6 }) }),
    ),
    ...line.map(({ label }, i) =>
      styled(
        new Feature(new Point(places[i] as number[])),
        new Style({
          image: new Circle({
            radius: label ? 3 : 2,
            fill: new Fill({ color: ink }),
            stroke: new Stroke({ color: paper, width: 1 }),
          }),
          text: told.has(i)
            ? new Text({
                text: label,
                font: FONT,
                offsetX: level ? 0 : 12,
                offsetY: level ? -15 : 0,
                textAlign: level ? "center" : "left",
                fill: new Fill({ color: ink }),
                backgroundFill: new Fill({ color: paper }),
                padding: [2, 4, 1, 4],
              })
            : undefined,
        }),
      ),
    ),
  ];
  if (a) made.push(styled(new Feature(new Point(space.toPane(a))), ...ring(6, ember)));
  return made;
}
