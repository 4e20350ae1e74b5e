/**
 * What is known of the server, by key. A key with fewer parts stands for all that begin with it, as when something is out of
 * date.
 */
const ofAll =
  (name: string) =>
  (...of: unknown[]) => [name, ...of];
const ofProject =
  (name: string) =>
  (projectId: number, ...of: unknown[]) => [name, projectId, ...of];

export const KEYS = {
  crs: ofAll("crs"),
  invitation: ofAll("invitation"),
  me: ofAll("me"),
  operations: ofAll("operations"),
  projects: ofAll("projects"),
  use: ofAll("use"),
  catchments: ofProject("catchments"),
  collections: ofProject("collections"),
  brief: ofProject("brief"),
  briefAnswers: ofProject("briefAnswers"),
  columnValues: ofProject("columnValues"),
  contours: ofProject("contours"),
  cover: ofProject("cover"),
  deleted: ofProject("deleted"),
  depots: ofProject("depots"),
  drawn: ofProject("drawn"),
  edits: ofProject("edits"),
  explained: ofProject("explained"),
  facets: ofProject("facets"),
  figures: ofProject("figures"),
  heights: ofProject("heights"),
  holdings: ofProject("holdings"),
  holes: ofProject("holes"),
  jobs: ofProject("jobs"),
  jump: ofProject("jump"),
  lakes: ofProject("lakes"),
  likeness: ofProject("likeness"),
  members: ofProject("members"),
  orders: ofProject("orders"),
  package: ofProject("package"),
  patches: ofProject("patches"),
  packages: ofProject("packages"),
  pictures: ofProject("pictures"),
  pin: ofProject("pin"),
  pair: ofProject("pair"),
  pairTry: ofProject("pairTry"),
  imageTile: ofProject("imageTile"),
  greys: ofProject("greys"),
  places: ofProject("places"),
  position: ofProject("position"),
  preview: ofProject("preview"),
  probe: ofProject("probe"),
  profile: ofProject("profile"),
  proposal: ofProject("proposal"),
  quick: ofProject("quick"),
  scorecard: ofProject("scorecard"),
  scorecardPlaces: ofProject("scorecardPlaces"),
  scorecardSlopes: ofProject("scorecardSlopes"),
  shares: ofProject("shares"),
  streams: ofProject("streams"),
  suspects: ofProject("suspects"),
  table: ofProject("table"),
  water: ofProject("water"),
  wayDown: ofProject("wayDown"),
  worst: ofProject("worst"),
};
