import type { ComponentType } from "react";
import { isOperation, OPERATIONS, type OperationName, type RoleOf } from "../api/operations";
import { useHeld } from "../desk/context";
import { type Stage, useDesk } from "../desk/store";
import { MendSheet } from "../mend/MendSheet";
import { ContourSurface } from "./build/ContourSurface";
import { FindGround } from "./build/FindGround";
import { GridCloud } from "./build/GridCloud";
import { ImagePair } from "./build/ImagePair";
import { InterpolatePoints } from "./build/InterpolatePoints";
import { WhichMethod } from "./build/WhichMethod";
import { ContoursSheet } from "./deliver/ContoursSheet";
import { Downloads } from "./deliver/Downloads";
import { OpenSheet } from "./deliver/OpenSheet";
import { PackageSheet } from "./deliver/PackageSheet";
import { StreamsSheet } from "./drain/StreamsSheet";
import { Calculate } from "./fit/Calculate";
import { CellTypeSheet } from "./fit/CellTypeSheet";
import { ChangeHeights } from "./fit/ChangeHeights";
import { ClipSheet } from "./fit/ClipSheet";
import { FitSheet } from "./fit/FitSheet";
import { AddFiles } from "./gather/AddFiles";
import { Arrivals } from "./gather/Arrivals";
import { EditLines } from "./gather/EditLines";
import { FetchFeatures } from "./gather/FetchFeatures";
import { FrameSheet } from "./gather/FrameSheet";
import { Members } from "./gather/Members";
import { NewProject } from "./gather/NewProject";
import { OrderTiles } from "./gather/OrderTiles";
import { FillVoids } from "./join/FillVoids";
import { MosaicSheet } from "./join/MosaicSheet";
import { BestOfAllSheet } from "./judge/BestOfAllSheet";
import { BriefSheet } from "./judge/BriefSheet";
import { DifferenceFiguresSheet } from "./judge/DifferenceFiguresSheet";
import { DifferenceSheet } from "./judge/DifferenceSheet";
import { ScorecardSheet } from "./judge/ScorecardSheet";
import { ShiftSheet } from "./judge/ShiftSheet";
import { WaterSheet } from "./judge/WaterSheet";
import { OperationSheet } from "./OperationSheet";
import { useWorksheet } from "./useWorksheet";
import styles from "./worksheet.module.css";

type Own = ComponentType<{ open: (id: number) => void }>;

/** Worksheets that are no operations: what they are called stands here only. */
const TOOLS: { stage: Stage; name: string; title: string; summary: string; sheet: Own }[] = [
  {
    stage: "Gather",
    name: "add_files",
    title: "Add files",
    summary: "Surfaces, points, clouds, lines, images and pictures, inspected as they arrive.",
    sheet: AddFiles,
  },
  {
    stage: "Gather",
    name: "order_tiles",
    title: "Order tiles",
    summary: "Elevation of an area from the providers, compared before it is ordered.",
    sheet: OrderTiles,
  },
  {
    stage: "Gather",
    name: "fetch_features",
    title: "Fetch map features",
    summary: "Rivers, roads, boundaries and names, by kind and name.",
    sheet: FetchFeatures,
  },
  {
    stage: "Gather",
    name: "arrivals",
    title: "What came in",
    summary: "Every file as it was inspected, with findings and their fixes.",
    sheet: Arrivals,
  },
  {
    stage: "Gather",
    name: "frame",
    title: "Frame",
    summary: "CRS, cell size and area that everything is built onto.",
    sheet: FrameSheet,
  },
  {
    stage: "Gather",
    name: "new_project",
    title: "New project",
    summary: "A name, and a frame proposed from files or typed.",
    sheet: NewProject,
  },
  { stage: "Gather", name: "members", title: "Members", summary: "Who works in this project.", sheet: Members },
  {
    stage: "Judge",
    name: "brief",
    title: "Brief",
    summary: "What is asked of the surfaces: errors, holes, water, zero level, cells; met or not met.",
    sheet: BriefSheet,
  },
  {
    stage: "Judge",
    name: "water",
    title: "Water level",
    summary: "A lake filled to any level in every surface: area, volume, shore; another zero told from another shape.",
    sheet: WaterSheet,
  },
  {
    stage: "Deliver",
    name: "package",
    title: "Package",
    summary: "Chosen files in one zip, with a report, checksums and recipes.",
    sheet: PackageSheet,
  },
  {
    stage: "Deliver",
    name: "open",
    title: "Open to other programs",
    summary: "Tiles and cells of a surface under an address, until it is closed.",
    sheet: OpenSheet,
  },
  {
    stage: "Deliver",
    name: "downloads",
    title: "Download surfaces",
    summary: "Each surface as a GeoTIFF to take away.",
    sheet: Downloads,
  },
];

/** Worksheets of operations with something special to them; every other operation gets the plain one. */
const SPECIAL: Partial<Record<OperationName, ComponentType>> = {
  edit_features: EditLines,
  interpolate_points: InterpolatePoints,
  which_method: WhichMethod,
  grid_cloud: GridCloud,
  image_pair: ImagePair,
  find_ground: FindGround,
  contour_surface: ContourSurface,
  mosaic: MosaicSheet,
  fill_voids: FillVoids,
  fit_to_frame: FitSheet,
  clip: ClipSheet,
  change_heights: ChangeHeights,
  cell_type: CellTypeSheet,
  calculate: Calculate,
  scorecard: ScorecardSheet,
  best_of_all: BestOfAllSheet,
  mend: MendSheet,
  difference: DifferenceSheet,
  difference_figures: DifferenceFiguresSheet,
  shift: ShiftSheet,
  contours: ContoursSheet,
  streams: StreamsSheet,
};

/** Operations that have a worksheet, those with something special to them first. What only informs others has none. */
const LISTED: OperationName[] = [
  ...(Object.keys(SPECIAL) as OperationName[]),
  ...(Object.keys(OPERATIONS) as OperationName[]).filter(
    (name) =>
      !(name in SPECIAL) &&
      (OPERATIONS[name].stage === "Drain" || Object.values(OPERATIONS[name].outputs)[0]?.kind === "surface"),
  ),
];

/** The worksheet of an operation that has nothing special to it. */
function Plain({ operation }: { operation: OperationName }) {
  const work = useWorksheet(operation);
  const { all } = useHeld();
  const { title, summary, inputs } = OPERATIONS[operation];
  const names = Object.keys(inputs).flatMap((role) => {
    const [id] = work.ids(role as RoleOf<OperationName>);
    return all.find((one) => one.id === id)?.name ?? [];
  });
  return <OperationSheet work={work} lead={summary} name={`${title} of ${names.join(" and ")}`} />;
}

/** In Gather and Deliver what is done first stands first, whatever kind of worksheet it is. */
const FIRST = ["add_files", "order_tiles", "fetch_features", "edit_features", "contours"];
const placeOf = (name: string) => (FIRST.includes(name) ? FIRST.indexOf(name) : FIRST.length);

/** The open worksheet, or what can be done in the stage. */
export function Worksheet({ open }: { open: (id: number) => void }) {
  const stage = useDesk((desk) => desk.stage);
  const operation = useDesk((desk) => desk.operation);
  const openSheet = useDesk((desk) => desk.open);
  const tool = TOOLS.find((one) => one.name === operation);
  const Special = isOperation(operation) ? SPECIAL[operation] : undefined;
  const listed = [
    ...TOOLS.filter((one) => one.stage === stage),
    ...LISTED.map((name) => OPERATIONS[name]).filter((one) => one.stage === stage),
  ].sort((one, other) => placeOf(one.name) - placeOf(other.name));
  return (
    <section className="sheet" aria-label="Worksheet">
      {tool ? (
        <tool.sheet open={open} />
      ) : Special ? (
        <Special />
      ) : isOperation(operation) ? (
        <Plain key={operation} operation={operation} />
      ) : (
        <>
          <header>
            <h1>{stage}</h1>
            <a className={`lnk ${styles.guide}`} href={`/guide/${stage.toLowerCase()}`} target="_blank" rel="noopener">
              How this works
            </a>
          </header>
          <div className="scroll">
            {listed.length > 0 && (
              <ul className="ops">
                {listed.map((one) => (
                  <li key={one.name}>
                    <button type="button" onClick={() => openSheet(stage, one.name)}>
                      <b>{one.title}</b>
                      <span>{one.summary}</span>
                    </button>
                  </li>
                ))}
              </ul>
            )}
          </div>
        </>
      )}
    </section>
  );
}
