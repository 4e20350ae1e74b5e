import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { configure, render } from "@testing-library/react";
import type { ReactElement } from "react";
import { vi } from "vitest";
import type {
  CloudHolding,
  FeaturesHolding,
  ImageHolding,
  Job,
  PointsHolding,
  Project,
  SurfaceHolding,
  TableHolding,
} from "../api/client";
import { ProjectProvider } from "../desk/context";
import { FRESH, useDesk } from "../desk/store";

// how long a test waits for what the desk is to show, on a machine that is busy with other things
configure({ asyncUtilTimeout: 8_000 });

export const project: Project = {
  id: 1,
  name: "Avel rack railway",
  role: "editor",
  frame: {
    grid: { crs: "EPSG:32741", west: 443520, north: 5442560, cell_width: 2, cell_height: 2, rows: 4096, cols: 5120 },
    unit: "m",
    vertical_datum: "",
    crs_title: "WGS 84 / UTM zone 41S",
    cell_size: 2,
    metres_per_unit: [1, 1],
    mark: "0",
  },
  checkpoints_id: null,
};

const anything = (id: number, name: string) => ({
  id,
  name,
  key: `key${id}`,
  live: false,
  original: "",
  created_at: "2026-11-24T00:00:00Z",
  file: null,
  declared: {},
  origin: {},
  uploaded: false,
  fixed_by: "",
  fixed_by_id: null,
  instead_of: null,
  outdated: false,
  bounds: null,
  holes: null,
  findings: [],
  recipe: null,
  accuracy: null,
});

export const surface = (id: number, name: string, change: Partial<SurfaceHolding> = {}): SurfaceHolding => ({
  ...anything(id, name),
  kind: "surface",
  surface: {
    cell_size: 2,
    rows: 10,
    cols: 10,
    crs: "EPSG:32741",
    unit: "m",
    vertical_datum: "",
    statistics: { cells: 100, empty: 25, lowest: 1, highest: 9, mean: 5, deviation: 2 },
    quantity: "height",
    coarse: false,
    on_frame: true,
    categories: [],
  },
  ...change,
});

export const points = (id: number, name: string, codes: Record<string, number>): PointsHolding => ({
  ...anything(id, name),
  kind: "points",
  points: {
    count: Object.values(codes).reduce((sum, one) => sum + one, 0),
    codes,
    fields: ["z_m"],
    height_field: "z_m",
    unit: "m",
    crs: "EPSG:32741",
  },
});

/** A cloud with so many points of each class. */
export const cloud = (id: number, name: string, classes: Record<string, number>): CloudHolding => ({
  ...anything(id, name),
  kind: "cloud",
  cloud: {
    count: Object.values(classes).reduce((sum, one) => sum + one, 0),
    crs: "EPSG:32741",
    version: "1.4",
    unit: "m",
    classes,
    class_names: { "1": "unclassified", "2": "ground", "5": "high vegetation", "7": "low noise" },
    returns: { "1": 100 },
    lowest: 0,
    highest: 90,
    spacing: 1,
    density: 1,
    strips: 1,
  },
});

/** Lines with a name each, numbered from 0. */
export const lines = (id: number, name: string, names: string[]): FeaturesHolding => ({
  ...anything(id, name),
  kind: "features",
  features: {
    counts: { lines: names.length },
    vertices: 2 * names.length,
    attributes: { name: "text", width: "number" },
    units: {},
    crs: "EPSG:32741",
    layer: "",
    layers: [],
  },
});

export const image = (id: number, name: string): ImageHolding => ({
  ...anything(id, name),
  kind: "image",
  image: {
    rows: 3840,
    cols: 2944,
    bands: 1,
    cell_type: "uint16",
    lowest: 1,
    highest: 4095,
    bits: 12,
    empty: 0,
    ground_size: 1,
    heights: [-59, 642],
    footprint: [],
  },
});

/** A table of figures with two columns. */
export const figures = (id: number, name: string): TableHolding => ({
  ...anything(id, name),
  kind: "table",
  table: {
    columns: [
      { name: "method", title: "Method", unit: "", type: "text", decimals: null },
      { name: "rmse", title: "RMSE", unit: "m", type: "number", decimals: 2 },
    ],
    rows: 2,
  },
});

export function job(id: string, change: Partial<Job> = {}): Job {
  return {
    id,
    kind: "run",
    title: `Job ${id}`,
    state: "done",
    progress: 1,
    tries: 1,
    message: "",
    log: "",
    findings: [],
    holding_id: null,
    seen: false,
    question: null,
    created_at: "2026-11-24T00:00:00Z",
    started_at: "2026-11-24T00:00:00Z",
    ended_at: "2026-11-24T00:00:03Z",
    ...change,
  };
}

export interface Asked {
  method: string;
  path: string;
  /** What stands behind the question mark. */
  query?: string;
  body: unknown;
}

/** A service that answers from a table of `METHOD /path` (without /api and query) and remembers what it was asked. */
export function service(answers: Record<string, unknown | ((asked: Asked) => unknown)>): Asked[] {
  const asked: Asked[] = [];
  vi.stubGlobal(
    "fetch",
    vi.fn(async (address: string, options: { method?: string; body?: string } = {}) => {
      const method = options.method ?? "GET";
      const [path = "", query] = address.replace(/^\/api/, "").split("?");
      const one = {
        method,
        path,
        query,
        body: typeof options.body === "string" ? JSON.parse(options.body) : undefined,
      };
      asked.push(one);
      const answer = answers[`${method} ${path}`];
      if (answer === undefined) return new Response(JSON.stringify({ detail: `nothing at ${path}` }), { status: 404 });
      const value = typeof answer === "function" ? await answer(one) : answer;
      if (value instanceof Response) return value;
      return new Response(JSON.stringify(value), { status: 200 });
    }),
  );
  return asked;
}

/** Draw a part of the desk in an open project, on a fresh desk. */
export function draw(element: ReactElement, change: Partial<Project> = {}) {
  useDesk.setState({
    ...FRESH,
    loaded: true,
    preview: null,
    inPlace: null,
    overlays: [],
    tools: [],
    bench: "map",
    pointer: null,
    bounds: null,
    hovered: null,
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const drawn = render(
    <QueryClientProvider client={client}>
      <ProjectProvider value={{ ...project, ...change }}>{element}</ProjectProvider>
    </QueryClientProvider>,
  );
  return { ...drawn, client };
}
