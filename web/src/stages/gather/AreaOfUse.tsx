import { useMutation, useQuery } from "@tanstack/react-query";
import { call, type Proposal, type Use } from "../../api/client";
import { KEYS } from "../../api/keys";
import { num } from "../../desk/format";
import { Button } from "../../ui/Button";
import styles from "./areaOfUse.module.css";

const side = (value: number, sides: string) => `${num(Math.abs(value), 1)}° ${value < 0 ? sides[1] : sides[0]}`;

type Sides = Record<string, number | null | undefined>;

/** What a CRS is meant for, and whether the area typed lies there. */
export function useAreaOfUse(crs: string, typed: Sides) {
  const sides = [typed.west, typed.south, typed.east, typed.north];
  const area = sides.every((one) => typeof one === "number") ? sides : null;
  const { data: use } = useQuery({
    queryKey: KEYS.use(crs, area),
    queryFn: ({ signal }) => call<Use>("POST", "/frames/use", { crs, area }, signal),
    enabled: crs.trim().length > 3,
    retry: false,
    staleTime: Infinity,
    placeholderData: (before) => before,
  });
  const unit = use ? ({ metre: "m", degree: "°" }[use.unit] ?? use.unit) : "";
  return { use, unit, area };
}

interface Fix {
  crs: string;
  area: (number | null | undefined)[] | null;
  cellSize: number | null | undefined;
  /** The same area in a CRS whose lengths are those of the ground. */
  onProposal: (found: Proposal) => void;
}

/** The degrees a CRS is meant for on a lattice of the whole earth, with the frame's place in it. */
export function AreaOfUse({ use, fix }: { use: Use | undefined; fix?: Fix }) {
  const propose = useMutation({
    mutationFn: ({ crs, area, cellSize }: Fix) =>
      call<Proposal>("POST", "/frames/propose", {
        extents: [{ name: "the area", crs, bounds: area, boundary: true }],
        cell_size: cellSize,
      }),
    onSuccess: (found) => fix?.onProposal(found),
  });
  if (!use) return null;
  const { bounds, place, inside } = use;
  // an area that crosses the date line is drawn in two
  const [west = 0, south = 0, east = 0, north = 0] = bounds ?? [];
  const spans = !bounds
    ? []
    : west <= east
      ? [[west, east]]
      : [
          [west, 180],
          [-180, east],
        ];
  return (
    <figure className={styles.use}>
      <svg viewBox="-182 -92 364 184" role="img" aria-label={`Area of use of ${use.name}`}>
        <rect x={-180} y={-90} width={360} height={180} className={styles.earth} />
        {[-120, -60, 0, 60, 120].map((x) => (
          <line key={x} x1={x} x2={x} y1={-90} y2={90} />
        ))}
        {[-60, -30, 0, 30, 60].map((y) => (
          <line key={y} x1={-180} x2={180} y1={y} y2={y} />
        ))}
        {spans.map(([left = 0, right = 0]) => (
          <rect
            key={left}
            className="meant"
            x={left}
            y={-north}
            width={Math.max(right - left, 2)}
            height={Math.max(north - south, 2)}
          />
        ))}
        {place && <circle cx={place[0]} cy={-place[1]} r={4.5} className={inside === false ? "out" : "in"} />}
      </svg>
      <figcaption>
        <b>{use.name}</b>, in {use.unit}s.{" "}
        {bounds ? (
          <>
            Meant for <span className="n">{side(west, "EW")}</span> to <span className="n">{side(east, "EW")}</span>,{" "}
            <span className="n">{side(south, "NS")}</span> to <span className="n">{side(north, "NS")}</span>.
          </>
        ) : (
          "Nothing says where it is meant for."
        )}
        {use.stretch && use.instead && (
          <span className="caution">
            {" "}
            There <span className="n">{num(use.stretch, use.stretch < 1.1 ? 4 : 2)}</span> of its metres are one on the
            ground. Slopes, lengths and areas are put right, but its cells are not as wide as they say.{" "}
            {fix?.area && (
              <Button kind="link" disabled={propose.isPending} onClick={() => propose.mutate(fix)}>
                Put the frame into {use.instead}
              </Button>
            )}
            {propose.error && <span className="err">{propose.error.message}</span>}
          </span>
        )}
        {inside === false && (
          <span className="caution">
            {place ? (
              <>
                {" "}
                The area, at <span className="n">{side(place[0], "EW")}</span>{" "}
                <span className="n">{side(place[1], "NS")}</span>, reaches outside: lengths and areas would be wrong
                there. Take a CRS of its place.
              </>
            ) : (
              " These numbers are no place in it. Check them, or the CRS."
            )}
          </span>
        )}
      </figcaption>
    </figure>
  );
}
