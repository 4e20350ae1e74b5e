import type QUANTITIES from "../map/quantities.json";
import type { components } from "./schema";

type Schemas = components["schemas"];
type Kinds = "surface" | "points" | "features" | "cloud" | "image" | "picture" | "table";
/** What a kind of holding does not tell is not there. lookedAt: the key of what is only looked at and stands in its place in A. */
type Told<T> = T & { [K in Exclude<Kinds, keyof T>]?: undefined } & { lookedAt?: string };
export type SurfaceHolding = Told<Schemas["SurfaceOut"]>;
export type PointsHolding = Told<Schemas["PointsOut"]>;
export type FeaturesHolding = Told<Schemas["FeaturesOut"]>;
export type CloudHolding = Told<Schemas["CloudOut"]>;
export type ImageHolding = Told<Schemas["ImageOut"]>;
export type PictureHolding = Told<Schemas["PictureHoldingOut"]>;
export type TableHolding = Told<Schemas["TableHoldingOut"]>;
export type Holding =
  | SurfaceHolding
  | PointsHolding
  | FeaturesHolding
  | CloudHolding
  | ImageHolding
  | PictureHolding
  | TableHolding;
export type Job = Schemas["JobOut"];
export type Gone = Schemas["DeletedOut"];
export type Uses = Schemas["UsesOut"];
export type Project = Schemas["ProjectOut"];
export type Grid = Schemas["GridOut"];
export type Me = Schemas["Me"];
export type Operation = Schemas["OperationOut"];
/** The desk makes findings of its own too, which ask nothing. */
export type Finding = Omit<Schemas["FindingOut"], "answers"> & Partial<Pick<Schemas["FindingOut"], "answers">>;
export type Preview = Schemas["PreviewOut"];
export type ContourLine = Schemas["LineOut"];
export type GraticuleLine = Schemas["GraticuleOut"];
export type Distribution = Schemas["DistributionOut"];
export type Heights = Schemas["HeightsOut"];
export type Profile = Schemas["ProfileOut"];
export type Share = Schemas["ShareOut"];
export type Zone = Schemas["ZoneOut"];
export type Picture = Schemas["PictureOut"];
export type Probe = Schemas["ProbeOut"];
export type Reading = Schemas["ReadingOut"];
export type ViewFigures = Schemas["ViewOut"];
export type Accepted = Schemas["AcceptedOut"];
export type Table = Schemas["TableOut"];
export type PairLook = Schemas["PairOut"];
export type PairTry = Schemas["TryOut"];
export type TableLook = Schemas["TableLookOut"];
export type Question = Schemas["QuestionOut"];
export type Layout = Schemas["LayoutOut"];
export type Received = Schemas["ReceivedOut"];
export type Product = Schemas["ProductOut"];
export type Cover = Schemas["CoverOut"];
export type Order = Schemas["OrderOut"];
export type Collection = Schemas["CollectionOut"];
export type Place = Schemas["PlaceOut"];
export type FeatureValue = Schemas["ValueOut"];
export type Extent = Schemas["ExtentIO"];
export type Placed = Schemas["PlacedOut"];
export type Proposal = Schemas["ProposalOut"];
export type Use = Schemas["UseOut"];
export type Crs = Schemas["CrsOut"];
export type Facets = Schemas["FacetsOut"];
export type Draft = Schemas["DraftOut"];
export type Stack = Schemas["StackOut"];
export type Entry = Schemas["EntryOut"];
export type Suspects = Schemas["SuspectsOut"];
export type Suspect = Schemas["SuspectOut"];
export type Jump = Schemas["JumpOut"];
export type Member = Schemas["MemberOut"];
export type OpenInvitation = Schemas["InvitationOut"];
export type NewInvitation = Schemas["NewInvitationOut"];
export type Invited = Schemas["InvitedOut"];
export type Scorecard = Schemas["ScorecardOut"];
export type ScorecardAsked = Schemas["ScorecardIn"];
export type ScorecardFigures = Schemas["FiguresOut"];
export type ScorecardMoved = Schemas["MovedOut"];
export type ScorecardSlopes = Schemas["SlopesOut"];
export type ScorecardPlaces = Schemas["PlacesOut"];
export type Brief = Schemas["BriefOut"];
export type BriefAnswers = Schemas["AnswersOut"];
export type ColumnValue = Schemas["ColumnValueOut"];
export type Explained = Schemas["ExplainedOut"];
export type Lake = Schemas["LakeOut"];
export type Water = Schemas["WaterOut"];
export type WaterBasin = Schemas["BasinOut"];
export type Drained = Schemas["DrainedIn"];
export type CatchmentsAsked = Schemas["CatchmentsIn"];
export type StreamsAsked = Schemas["StreamsIn"];
export type Streams = Schemas["StreamsOut"];
export type WayDown = Schemas["WayOut"];
export type Network = Schemas["NetworkIn"];
export type KeptNetwork = Schemas["KeptNetworkOut"];
export type NetworkFigures = Schemas["NetworkFiguresOut"];
export type Hollow = Schemas["HollowOut"];
export type Hollows = Schemas["HollowsOut"];
export type SaidOfHollow = Schemas["SaidOut"];
export type NetworkLikeness = Schemas["LikenessOut"];
export type Catchments = Schemas["CatchmentsOut"];
export type WorstPlaces = Schemas["WorstOut"];
export type WorstPlace = Schemas["WorstPlaceOut"];
export type Quantity = keyof typeof QUANTITIES;
/** Holdings by role; several where the role takes many. */
export type Inputs = Record<string, number | number[]>;
/** The same, or the key of what is only looked at. */
export type Looked = Record<string, number | number[] | string>;

/** A refusal or failure, with the service's sentence. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

function csrf(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

async function failure(response: Response): Promise<ApiError> {
  let sentence = "";
  try {
    sentence = ((await response.json()) as { detail?: string }).detail ?? "";
  } catch {
    // not JSON: the status has to do
  }
  if (!sentence || response.status === 401) {
    sentence ||= response.status === 404 ? "That is no longer here." : `The service answered with ${response.status}.`;
  }
  return new ApiError(response.status, sentence);
}

/** Ask the service; a body makes it JSON. Throws ApiError with a sentence. */
export async function call<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      signal,
      headers: { "X-CSRFToken": csrf(), ...(body === undefined ? {} : { "Content-Type": "application/json" }) },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new ApiError(0, "Yama does not answer. Is ./run still running?");
  }
  if (!response.ok) throw await failure(response);
  return (response.status === 204 ? undefined : await response.json()) as T;
}

/** Bytes from the service; null where it says there is nothing (204). */
export async function bytes(path: string, signal?: AbortSignal): Promise<ArrayBuffer | null> {
  const response = await fetch(`/api${path}`, { signal });
  if (!response.ok) throw await failure(response);
  return response.status === 204 ? null : response.arrayBuffer();
}

/** Red, green, blue and opacity of a picture's pixels, row by row; null where there is nothing to show. */
export async function picture(path: string, signal?: AbortSignal): Promise<Uint8ClampedArray | null> {
  const body = await bytes(path, signal);
  if (!body) return null;
  const read = await createImageBitmap(new Blob([body]), { premultiplyAlpha: "none" });
  const canvas = new OffscreenCanvas(read.width, read.height);
  const context = canvas.getContext("2d");
  context?.drawImage(read, 0, 0);
  read.close();
  return context?.getImageData(0, 0, canvas.width, canvas.height).data ?? null;
}

/** Send a file as it is, with progress from 0 to 1. */
export function upload(
  projectId: number,
  file: File,
  crs: string,
  progress: (share: number) => void,
): Promise<Received> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const query = new URLSearchParams({ name: file.name, crs, look: "true" });
    request.open("POST", `/api/projects/${projectId}/uploads?${query}`);
    request.setRequestHeader("X-CSRFToken", csrf());
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (event) => progress(event.loaded / Math.max(event.total, 1));
    request.onerror = () => reject(new ApiError(0, `${file.name} could not be sent. Is ./run still running?`));
    request.onload = () => {
      let answer: Received & { detail?: string } = { job: null, holding_id: null, table: null };
      try {
        answer = JSON.parse(request.responseText);
      } catch {
        // not JSON: the status has to do
      }
      if (request.status < 300) resolve(answer);
      else reject(new ApiError(request.status, answer.detail ?? `The service answered with ${request.status}.`));
    };
    request.send(file);
  });
}

/** Where a file lies, or how it was read if it is a table that does not say it. It is looked at and not kept. */
export async function sendForExtent(file: File, declared: object = {}, look = false): Promise<Placed> {
  const query = new URLSearchParams({ name: file.name, declared: JSON.stringify(declared), look: String(look) });
  let response: Response;
  try {
    response = await fetch(`/api/frames/extent?${query}`, {
      method: "POST",
      headers: { "X-CSRFToken": csrf(), "Content-Type": "application/octet-stream" },
      body: file,
    });
  } catch {
    throw new ApiError(0, `${file.name} could not be sent. Is ./run still running?`);
  }
  if (!response.ok) throw await failure(response);
  return (await response.json()) as Placed;
}
