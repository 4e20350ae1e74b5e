const PATHS = {
  outline: "M3 7 8 2.500 13.500 6 12 13 5 13.500Z",
  box: "M2.500 4H13.500V12H2.500Z",
  freehand: "M3 9C2 5 6 2 9 3.500S14 7 13 10 8 14.500 6 12.500",
  line: "M2 12 6 6 10 9 14 3",
  brush: "M9 7 13 2.500M9 7c1 1 .8 2-.3 3C7 12 5 12.500 2.500 13c.8-1.700.8-4 2.500-5.500S8 6 9 7",
  grow: "M8 6.500v3M6.500 8h3M8 2.500a5.500 5.500 0 1 0 .01 0Z",
  vertices:
    "M3 12 8 4 13 12M6.700 2.700h2.600v2.600H6.700ZM1.700 10.700h2.600v2.600H1.700ZM11.700 10.700h2.600v2.600h-2.600Z",
  square: "M4 2v10h10M4 9h3v3",
  split: "M3 3h10v10H3ZM8 1v14",
  merge: "M2 4h7v8H2ZM7 6h7v4H7",
  copy: "M2.500 2.500h7v7h-7ZM6.500 6.500h7v7h-7Z",
  remove: "M3 4.500h10M6 4.500V3h4v1.500M4.500 4.500l.7 9h5.600l.7-9",
  up: "M8 13V3M4 7l4-4 4 4",
  down: "M8 3v10M4 9l4 4 4-4",
  undo: "M5.500 3 2.500 6l3 3M2.500 6h7a4 4 0 0 1 0 8H6",
  redo: "M10.500 3l3 3-3 3M13.500 6h-7a4 4 0 0 0 0 8H10",
  lens: "M6.500 2a4.500 4.500 0 1 0 .01 0ZM10 10l4 4",
} as const;

export type IconName = keyof typeof PATHS;

/** The drawing of a tool. */
export const ToolIcon = ({ name }: { name: IconName }) => (
  <svg
    viewBox="0 0 16 16"
    width="16"
    height="16"
    fill="none"
    stroke="currentColor"
    strokeWidth="1.3"
    strokeLinejoin="round"
    aria-hidden="true"
  >
    <path d={PATHS[name]} />
  </svg>
);

export const Lock = () => (
  <svg
    viewBox="0 0 12 12"
    width="12"
    height="12"
    fill="none"
    stroke="currentColor"
    strokeWidth="1.3"
    aria-hidden="true"
  >
    <path d="M2.500 5.500h7v5h-7ZM4 5.500V3.700a2 2 0 0 1 4 0v1.800" />
  </svg>
);
