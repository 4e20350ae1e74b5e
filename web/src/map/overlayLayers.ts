import Feature from "ol/Feature";
import { LineString, MultiLineString, Point, Polygon } from "ol/geom";
import VectorLayer from "ol/layer/Vector";
import VectorSource from "ol/source/Vector";
import type { StyleLike } from "ol/style/Style";
import type { Overlay, Overlays } from "../desk/overlays";
import { graticuleLayer } from "./graticuleLayer";
import { labelsAt } from "./labelled";
import {
  areaMark,
  contourMark,
  dotMark,
  errorMark,
  facetMarks,
  footprintStyle,
  inkedMark,
  patchStyle,
  placeMark,
  rimMark,
  spotMark,
  suspectMark,
  toldMark,
} from "./marks";
import type { Place } from "./shapes";
import type { Space } from "./space";

interface Drawn {
  features: Feature[];
  /** Above surfaces and what is dressed; a higher one is drawn over a lower. */
  zIndex: number;
  style?: StyleLike;
  declutter?: boolean;
}

type Painter<K extends keyof Overlays> = (shown: Overlays[K], toPane: Space["toPane"]) => Drawn;

const styled = (feature: Feature, style: StyleLike) => {
  feature.setStyle(style);
  return feature;
};
const marked = (places: Place[], toPane: Space["toPane"]) => places.map((at) => new Feature(new Point(toPane(at))));

const PAINTERS: { [K in Exclude<keyof Overlays, "graticule">]: Painter<K> } = {
  facets: (facets, toPane) => ({
    zIndex: 40,
    features: (["sloping", "level", "left_out"] as const).map((kind) => {
      const edges = facets.count ? facets[kind] : [];
      const lines = edges.map(([x0, y0, x1, y1]) => [toPane([x0, y0]), toPane([x1, y1])]);
      return styled(new Feature(new MultiLineString(lines)), facetMarks[kind]);
    }),
  }),
  contours: ({ lines, unit }, toPane) => {
    const bear = labelsAt(lines.filter(({ index }) => index).map(({ figure }) => figure));
    return {
      zIndex: 41,
      declutter: true,
      features: lines.map(({ figure, index, places }) => {
        const line: Place[] = [];
        for (let i = 0; i < places.length; i += 2) line.push(toPane([places[i] as number, places[i + 1] as number]));
        return styled(new Feature(new LineString(line)), (_, resolution) =>
          contourMark(figure, index, bear(figure, resolution) ? unit : null),
        );
      }),
    };
  },
  inked: (lines, toPane) => ({
    zIndex: 56,
    features: lines.map(({ line, ink, width, dashed }) =>
      styled(new Feature(new LineString(line.map(toPane))), inkedMark(ink, width, dashed)),
    ),
  }),
  seams: (lines, toPane) => ({
    zIndex: 56,
    style: rimMark(),
    features: lines.map((line) => new Feature(new LineString(line.map(toPane)))),
  }),
  rims: (rims, toPane) => ({
    zIndex: 56,
    style: rimMark(),
    features: rims.map((rim) => new Feature(new Polygon([rim.map(toPane)]))),
  }),
  profile: ({ line, at }, toPane) => ({
    zIndex: 57,
    style: areaMark,
    features: [
      new Feature(new LineString(line.map(toPane))),
      ...(at ? [styled(new Feature(new Point(toPane(at))), spotMark)] : []),
    ],
  }),
  footprints: ({ tiles, press }, toPane) => ({
    zIndex: 58,
    declutter: true,
    features: tiles.map((tile) =>
      styled(
        new Feature({ geometry: new Polygon([tile.ring.map(toPane)]), press: () => press(tile.name) }),
        (_, resolution) => footprintStyle(tile, resolution),
      ),
    ),
  }),
  area: (ring, toPane) => ({
    zIndex: 59,
    style: areaMark,
    features: [new Feature(new LineString([...ring, ...ring.slice(0, 1)].map(toPane)))],
  }),
  patches: ({ outlines, perMetre }, toPane) => ({
    zIndex: 58,
    declutter: true,
    features: outlines.map((one) => {
      const drawn = one.places.map(toPane);
      const geometry = one.width === null ? new Polygon([drawn]) : new LineString(drawn);
      const { press } = one;
      return styled(new Feature({ geometry, press }), (_, resolution) => patchStyle(one, perMetre / resolution));
    }),
  }),
  suspects: (places, toPane) => ({
    zIndex: 62,
    features: places.map(({ at, number, here, press }) =>
      styled(new Feature({ geometry: new Point(toPane(at)), press }), suspectMark(number, here)),
    ),
  }),
  told: (places, toPane) => ({
    zIndex: 63,
    declutter: true,
    features: places.map(({ at, ink, words }) => styled(new Feature(new Point(toPane(at))), toldMark(ink, words))),
  }),
  errors: (errors, toPane) => ({
    zIndex: 60,
    features: errors.map(({ x, y, share }) => styled(new Feature(new Point(toPane([x, y]))), errorMark(share))),
  }),
  dots: (dots, toPane) => ({ zIndex: 61, style: dotMark, features: marked(dots, toPane) }),
  places: (places, toPane) => ({ zIndex: 61, style: placeMark, features: marked(places, toPane) }),
};

/** The layer that shows an overlay on a pane. */
export function overlayLayer(overlay: Overlay, space: Space): VectorLayer {
  const { kind, shown } = overlay;
  if (kind === "graticule") return graticuleLayer(shown, space.toPane);
  const paint = PAINTERS[kind] as Painter<typeof kind>;
  const { features, ...look } = paint(shown as never, space.toPane);
  return new VectorLayer({ source: new VectorSource({ features }), ...look });
}
