import { useDrainState } from "../drain/state";
import { WaterProbe } from "../drain/WaterProbe";
import { PartFoot } from "../judge/PartFoot";
import { useTriedAt } from "../pair/usePair";
import { factsOf } from "../tools/tool";
import { BENCHES } from "./benches";
import { quantityOf, unitOf, useHeld, useProject } from "./context";
import { degrees, num } from "./format";
import { toolOf, useDesk } from "./store";
import { useReading } from "./useReading";

/** What the window that is matched says under the pointer. */
function TriedProbe({ heightA }: { heightA: number | null | undefined }) {
  const tried = useTriedAt();
  if (!tried) return null;
  return (
    <>
      <span>
        <i className="l">pair</i>
        <b className="n" data-testid="probe-pair">
          {tried.height === null ? "empty" : `${num(tried.height, 2)} m`}
        </b>
      </span>
      {heightA != null && tried.height !== null && (
        <span>
          <i className="l">pair − A</i>
          <b className="n">{num(tried.height - heightA, 2)} m</b>
        </span>
      )}
      {tried.height !== null && (
        <span>
          <i className="l">likeness</i>
          <b className="n">{num(tried.likeness, 2)}</b>
        </span>
      )}
    </>
  );
}

/** What is told at the foot of the bench in front. */
export function ProbeLine() {
  const bench = useDesk((desk) => desk.bench);
  return bench === "scorecard" ? <PartFoot /> : <Readings />;
}

/** The readings under the pointer. */
function Readings() {
  const project = useProject();
  const { b } = useHeld();
  const { at, preview, reading: data, error, quantity, a: heightA, b: heightB, minus } = useReading();
  const geographic = project.frame.crs_title.startsWith("WGS 84") && project.frame.grid.crs === "EPSG:4326";
  const decimals = geographic ? 6 : 1;
  const unit = unitOf(quantity, project.frame.unit);
  const { rest } = useDesk((desk) => BENCHES[desk.bench]);
  const water = useDrainState((state) => state.looked.length > 0);
  const inPair = useDesk((desk) => desk.bench === "pair");
  const hint = useDesk((desk) => factsOf(toolOf(desk)).hint);
  if (error) return <div className="probe mut">{error.message}</div>;
  if (!at || !data)
    return (
      <div className="probe mut" role="status" aria-label="Probe">
        {rest ?? hint}
      </div>
    );
  return (
    <div className="probe" role="status" aria-label="Probe">
      <span>
        <i className="l">E</i>
        <b className="n">{num(data.x, decimals)}</b>
        <i className="l">N</i>
        <b className="n">{num(data.y, decimals)}</b>
      </span>
      {!water && (
        <span className="n">
          {degrees(data.latitude, ["N", "S"])} {degrees(data.longitude, ["E", "W"])}
        </span>
      )}
      <span>
        <b className="la">A</b>
        <b className="n" data-testid="probe-a">
          {num(heightA, 2)} {unit}
        </b>
      </span>
      {b && (
        <span>
          <b className="lb">B</b>
          <b className="n" data-testid="probe-b">
            {num(heightB, 2)} {unitOf(quantityOf(b), project.frame.unit)}
          </b>
        </span>
      )}
      {b && (
        <span>
          <i className="l">A − B</i>
          <b className="n" data-testid="probe-minus">
            {num(minus, 2)}
            {minus !== null && ` ${unit}`}
          </b>
        </span>
      )}
      {inPair && <TriedProbe heightA={quantity === "height" ? heightA : null} />}
      {water && <WaterProbe at={data} />}
      {quantity === "height" && !inPair && !water && (
        <>
          <span>
            <i className="l">slope</i>
            <b className="n">{num(data.readings.a?.slope, 1)}°</b>
          </span>
          <span>
            <i className="l">aspect</i>
            <b className="n">{num(data.readings.a?.aspect)}°</b>
          </span>
        </>
      )}
      {data.readings.a?.source && !water && (
        <span>
          <i className="l">from</i> {data.readings.a.source}
        </span>
      )}
      {preview && !data.readings.a?.source && !water && (
        <span>
          <i className="l">A is the</i>{" "}
          {preview.title ? "quick look" : preview.rough ? "preview, drawn roughly" : "preview"}
        </span>
      )}
    </div>
  );
}
