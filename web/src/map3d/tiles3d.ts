/**
 * A tile of the map: cells of 2**level frame cells, counted from the frame's north-west. Tiles below level 0 are parts of those
 * of level 0, for an eye that is so near that their meshes are not fine enough.
 */
export interface Tile {
  level: number;
  col: number;
  row: number;
}

/** What tiles lie on: cells of the frame, how wide they are, and the level at which one tile holds all. */
export interface Ground {
  rows: number;
  cols: number;
  cell: number;
  top: number;
}

export const TILE = 256;
const FINEST = -2; // a square of the mesh for each cell
const DETAIL = 1.6; // a tile is parted where the eye is nearer than so many times its width

export const nameOf = ({ level, col, row }: Tile) => `${level}/${col}/${row}`;
export const parentOf = ({ level, col, row }: Tile): Tile => ({ level: level + 1, col: col >> 1, row: row >> 1 });
const childrenOf = ({ level, col, row }: Tile): Tile[] =>
  [0, 1].flatMap((down) => [0, 1].map((right) => ({ level: level - 1, col: 2 * col + right, row: 2 * row + down })));

/** The tile of the map whose cells a tile shows: itself, or what it is a part of. */
export function sourceOf(tile: Tile): Tile {
  let source = tile;
  while (source.level < 0) source = parentOf(source);
  return source;
}

/** Where a tile lies among the cells of its source: the first column and row, and how many cells it is wide. */
export function partOf({ level, col, row }: Tile): [number, number, number] {
  const width = level < 0 ? TILE * 2 ** level : TILE;
  const parts = TILE / width;
  return [(col % parts) * width, (row % parts) * width, width];
}

const holds = ({ rows, cols }: Ground, { level, col, row }: Tile) =>
  col * TILE * 2 ** level < cols && row * TILE * 2 ** level < rows;

/** West, north and width of a tile in metres from the frame's south-west. */
export function placeOf(ground: Ground, { level, col, row }: Tile): [number, number, number] {
  const width = TILE * ground.cell * 2 ** level;
  return [col * width, ground.rows * ground.cell - row * width, width];
}

/** How far an eye is from a tile that lies about `height` high. */
function distance(ground: Ground, tile: Tile, [x, y, z]: [number, number, number], height: number): number {
  const [west, north, width] = placeOf(ground, tile);
  const across = Math.max(west - x, x - west - width, 0);
  const up = Math.max(north - width - y, y - north, 0);
  return Math.hypot(across, up, z - height);
}

/** The tiles to show to an eye: small ones near by, large ones far away, together the whole frame once, at most `most` of them. */
export function chosenTiles(ground: Ground, eye: [number, number, number], height: number, most = 80): Tile[] {
  const open: { tile: Tile; near: number }[] = [];
  const done: Tile[] = [];
  const put = (tile: Tile) => {
    if (!holds(ground, tile)) return;
    const near = distance(ground, tile, eye, height) / placeOf(ground, tile)[2];
    if (tile.level === FINEST || near > DETAIL) done.push(tile);
    else open.push({ tile, near });
  };
  put({ level: ground.top, col: 0, row: 0 });
  while (open.length && open.length + done.length + 3 <= most) {
    // the one that is nearest for its size first
    open.sort((one, other) => other.near - one.near);
    const next = open.pop();
    if (next) for (const child of childrenOf(next.tile)) put(child);
  }
  return [...done, ...open.map(({ tile }) => tile)];
}

/** What can be drawn now: of each wanted tile itself, or the smallest above it that is there; none lies over another. */
export function drawnTiles(wanted: Tile[], isThere: (tile: Tile) => boolean, top: number): Tile[] {
  const found = new Map<string, Tile>();
  for (const tile of wanted) {
    let one = tile;
    while (!isThere(one) && one.level < top) one = parentOf(one);
    if (isThere(one)) found.set(nameOf(one), one);
  }
  return [...found.values()].filter((tile) => {
    for (let above = tile; above.level < top; ) {
      above = parentOf(above);
      if (found.has(nameOf(above))) return false;
    }
    return true;
  });
}
