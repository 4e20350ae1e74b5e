import type { ComponentType } from "react";
import { useOperations } from "../api/queries";
import { type Stage, useDesk } from "../desk/store";
import { ContourSurface } from "./build/ContourSurface";
import { FindGround } from "./build/FindGround";
import { GridCloud } from "./build/GridCloud";
import { InterpolatePoints } from "./build/InterpolatePoints";
import { WhichMethod } from "./build/WhichMethod";
import { ContoursSheet } from "./deliver/ContoursSheet";
import { Downloads } from "./deliver/Downloads";
import { OpenSheet } from "./deliver/OpenSheet";
import { PackageSheet } from "./deliver/PackageSheet";
import { Calculate } from "./fit/Calculate";
import { CellTypeSheet } from "./fit/CellTypeSheet";
import { ChangeHeights } from "./fit/ChangeHeights";
import { ClipSheet } from "./fit/ClipSheet";
import { FitSheet } from "./fit/FitSheet";
import { GenericSheet } from "./GenericSheet";
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
import { AccuracySheet } from "./judge/AccuracySheet";

interface Entry {
  stage: Stage;
  name: string;
  title: string;
  summary: string;
  sheet: ComponentType<{ open: (id: number) => void }>;
  listed?: boolean;
}

/** Worksheets written for their task; every other operation gets the plain one. */
const OWN: Entry[] = [
  {
    stage: "Gather",
    name: "add_files",
    title: "Add files",
    summary: "Surfaces, points, clouds, lines and polygons, inspected as they arrive.",
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
    name: "edit_features",
    title: "Edit lines",
    summary: "Delete, reshape, split, join and dissolve, with every step undone at a press.",
    sheet: EditLines,
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
    stage: "Build",
    name: "interpolate_points",
    title: "Interpolate points",
    summary: "Survey points become a surface on the frame.",
    sheet: InterpolatePoints,
  },
  {
    stage: "Build",
    name: "which_method",
    title: "Which method?",
    summary: "Leave-out errors of every method on the same points, and where each errs.",
    sheet: WhichMethod,
  },
  {
    stage: "Build",
    name: "grid_cloud",
    title: "Grid a point cloud",
    summary: "Lidar becomes bare earth, first surface, spread, counts or intensity.",
    sheet: GridCloud,
  },
  {
    stage: "Build",
    name: "find_ground",
    title: "Find ground points",
    summary: "Ground and noise for clouds without classes, as new clouds.",
    sheet: FindGround,
  },
  {
    stage: "Build",
    name: "contour_surface",
    title: "Surface from contours",
    summary: "Contours, spots, streams and lakes become a surface without terraces.",
    sheet: ContourSurface,
  },
  {
    stage: "Join",
    name: "mosaic",
    title: "Mosaic",
    summary: "Many surfaces become one, levelled to each other, by a rule where they overlap.",
    sheet: MosaicSheet,
  },
  {
    stage: "Join",
    name: "fill_voids",
    title: "Fill holes",
    summary: "Empty cells that data surround get heights from their rim, or from another surface.",
    sheet: FillVoids,
  },
  {
    stage: "Fit",
    name: "fit_to_frame",
    title: "Reproject and resample",
    summary: "A surface in another CRS or cell size on the frame's own cells.",
    sheet: FitSheet,
  },
  {
    stage: "Fit",
    name: "clip",
    title: "Clip and mask",
    summary: "Keep what lies in polygons, outside of them, or in a rectangle.",
    sheet: ClipSheet,
  },
  {
    stage: "Fit",
    name: "change_heights",
    title: "Change heights",
    summary: "Metres and feet, another zero level by an offset or a geoid.",
    sheet: ChangeHeights,
  },
  {
    stage: "Fit",
    name: "cell_type",
    title: "Set cell type",
    summary: "Whole numbers of a step instead of decimals, and the value for empty.",
    sheet: CellTypeSheet,
  },
  {
    stage: "Fit",
    name: "calculate",
    title: "Calculate",
    summary: "Sums, differences, conditions and neighbourhoods, as an expression over surfaces.",
    sheet: Calculate,
  },
  {
    stage: "Judge",
    name: "accuracy",
    title: "Accuracy at checkpoints",
    summary: "Mean, RMSE and NMAD of every surface at points it was not made from.",
    sheet: AccuracySheet,
  },
  {
    stage: "Deliver",
    name: "contours",
    title: "Contours",
    summary: "Lines of equal height, every interval, with index lines.",
    sheet: ContoursSheet,
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

const NOT_YET: Partial<Record<Stage, string>> = {
  Mend: "Repairing artefacts is not built yet.",
  Drain: "Water over the surface is not built yet.",
};

/** The open worksheet, or what can be done in the stage. */
export function Worksheet({ open }: { open: (id: number) => void }) {
  const stage = useDesk((desk) => desk.stage);
  const operation = useDesk((desk) => desk.operation);
  const openSheet = useDesk((desk) => desk.open);
  const { data: operations = [] } = useOperations();
  const own = OWN.find((entry) => entry.name === operation);
  const plain = operations.find((one) => one.name === operation);
  const listed = [
    ...OWN.filter((entry) => entry.stage === stage),
    ...operations.filter(
      (one) =>
        one.stage === stage &&
        Object.values(one.outputs)[0]?.kind === "surface" &&
        !OWN.some((entry) => entry.name === one.name),
    ),
  ];
  return (
    <section className="sheet" aria-label="Worksheet">
      {own ? (
        <own.sheet open={open} />
      ) : plain ? (
        <GenericSheet key={plain.name} operation={plain} />
      ) : (
        <>
          <header>
            <h1>{stage}</h1>
          </header>
          <div className="scroll">
            {listed.length > 0 && (
              <ul className="ops">
                {listed.map((entry) => (
                  <li key={entry.name}>
                    <button type="button" onClick={() => openSheet(stage, entry.name)}>
                      <b>{entry.title}</b>
                      <span>{entry.summary}</span>
                    </button>
                  </li>
                ))}
              </ul>
            )}
            {NOT_YET[stage] && <p className="remark">{NOT_YET[stage]}</p>}
          </div>
        </>
      )}
    </section>
  );
}
