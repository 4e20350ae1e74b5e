import type { Line, Ring } from "../map/shapes";

/** Where the pointer was pressed, in the frame's CRS, and how much ground one pixel showed. */
export interface Pressed {
  x: number;
  y: number;
  resolution: number;
}

/** What a press does while lines are edited. */
export type EditWith = "choose" | "reshape" | "split" | "line" | "polygon";

/** What the pointer does. `owner` is the part of the desk that took the tool up, and lays it down when it goes; `snaps`
 * whether it snaps to outlines and features. */
export type Tool =
  | { kind: "read" }
  | { kind: "area"; owner: string; done: (area: Ring) => void; snaps?: boolean }
  | { kind: "line"; owner: string; done: (line: Line) => void; snaps?: boolean }
  | { kind: "pick"; owner: string; press: (at: Pressed) => void }
  | { kind: "box"; owner: string; done: (area: Ring) => void; snaps?: boolean }
  | { kind: "freehand"; owner: string; done: (area: Ring) => void }
  | { kind: "brush"; owner: string; done: (line: Line) => void }
  | { kind: "vertices"; owner: string; places: Line; closed: boolean; done: (places: Line) => void; snaps?: boolean }
  | { kind: "edit"; owner: string; holding: number; with: EditWith; snap: boolean };

export type ToolKind = Tool["kind"];

/** Reads values under the pointer: the tool in hand where no other is. */
export const READ: Tool = { kind: "read" };

interface Facts {
  cursor: string;
  /** What stands under the map while it is in hand. */
  hint: string;
}

export const TOOLS: Record<ToolKind, Facts> = {
  read: { cursor: "crosshair", hint: "Point at the map to read heights. Click to keep a reading." },
  area: { cursor: "cell", hint: "Click each corner of the area, the last one twice. Esc leaves." },
  line: { cursor: "cell", hint: "Click along the line, twice at its end. Esc leaves." },
  pick: { cursor: "pointer", hint: "Click what is meant. Esc leaves." },
  box: { cursor: "cell", hint: "Press at a corner and drag to the opposite one. Esc leaves." },
  freehand: { cursor: "cell", hint: "Press and draw around it without letting go. Esc leaves." },
  brush: { cursor: "crosshair", hint: "Press and draw a stroke, as many as you need. Esc leaves." },
  vertices: {
    cursor: "default",
    hint: "Drag a vertex, or an edge for a new one. Alt and a click takes one away. Esc leaves.",
  },
  edit: { cursor: "default", hint: "" },
};

const EDIT: Record<EditWith, Facts> = {
  choose: { cursor: "default", hint: "Click a feature to choose it; hold Shift to choose several." },
  reshape: {
    cursor: "default",
    hint: "Drag a vertex, or the line between two for a new one. Alt and a click removes one. Esc leaves.",
  },
  split: { cursor: "default", hint: "Click a vertex: the line ends and begins there. Esc leaves." },
  line: { cursor: "cell", hint: "Click along the new line, twice at its end. Esc leaves." },
  polygon: { cursor: "cell", hint: "Click each corner, the last one twice. Esc leaves." },
};

/** Cursor and hint of a tool. */
export const factsOf = (tool: Tool): Facts => (tool.kind === "edit" ? EDIT[tool.with] : TOOLS[tool.kind]);

/** What Esc makes of a tool; null where it lays it down. */
export const left = (tool: Tool): Tool | null =>
  tool.kind === "edit" && tool.with !== "choose" ? { ...tool, with: "choose" } : null;
