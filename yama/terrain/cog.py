"""Cloud-optimised GeoTIFF, written in one pass over blocks that may come in any order.

A file is TIFF 6.0 (Adobe, 1992), BigTIFF where it is large, with tags of OGC GeoTIFF 1.1 (19-008r4); the predictors are those
of Adobe's Technical Note 3 (2005). Directories come before all cells and overviews before the full cells, as OGC 21-026
(Cloud Optimized GeoTIFF) wants it. Each block is encoded where it is computed, its overview tile with it; only compressed
bytes are kept until the end, in a file beside the one that is made.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, Literal, Self

import numpy as np
import numpy.typing as npt
from isal import isal_zlib
from pyproj import CRS

from yama.terrain.files import PART
from yama.terrain.grid import Grid, Window, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.later import later

rasterio = later("rasterio")

Heights = npt.NDArray[np.float32]
CellType = Literal["float32", "float64", "int32", "int16", "uint16", "uint8"]

TILE = 256
BLOCK = 2 * TILE
"""Rows and columns of the blocks a file is written in: four tiles, and one of the first overview."""

_DEFLATE = 2  # this library's level: as small as zlib's fourth within 2 % on heights, six times as fast
_CLASSIC_LIMIT = 4_000_000_000
_LAYOUT = (
    b"LAYOUT=IFDS_BEFORE_DATA\nBLOCK_ORDER=ROW_MAJOR\nBLOCK_LEADER=SIZE_AS_UINT4\n"
    b"BLOCK_TRAILER=LAST_4_BYTES_REPEATED\nKNOWN_INCOMPATIBLE_EDITION=NO\n "
)
_PLACE_TAGS = (33550, 33922, 34264, 34735, 34736, 34737)  # scale, tie point, transform, keys of the CRS
_TEXT_TAGS = (42112, 42113)  # metadata and the value that means empty

Entry = tuple[int, int, int, bytes]
"""A TIFF tag: number, type, count, value."""


@dataclass(frozen=True)
class Encoding:
    """How values become cells: divided by `scale`, rounded where the type is whole, `nodata` where empty. categorical: values are
    categories, so that a coarser cell holds the most frequent of those below it and not their mean."""

    cell_type: CellType = "float32"
    scale: float = 1.0
    nodata: float = float("nan")
    categorical: bool = False

    @property
    def is_whole(self) -> bool:
        """Whether cells are whole numbers."""
        return not self.cell_type.startswith("float")

    @property
    def is_usual(self) -> bool:
        """Whether cells are decimals, NaN where empty."""
        return self.cell_type == "float32" and bool(np.isnan(self.nodata))

    @property
    def is_exact(self) -> bool:
        """Whether cells hold more digits than float32 does."""
        return self.cell_type == "float64" or (self.cell_type == "int32" and self.scale == 1.0)

    def cells(self, heights: npt.NDArray[Any]) -> npt.NDArray[Any]:
        """Cells of heights, of the same shape; a height the type cannot hold becomes the nearest that it can."""
        if not self.is_whole:
            held = heights.astype(self.cell_type, copy=False)
            return held if np.isnan(self.nodata) else np.where(np.isnan(held), held.dtype.type(self.nodata), held)
        limits = np.iinfo(self.cell_type)
        scaled = np.clip(np.rint(heights.astype(np.float64) / self.scale), limits.min, limits.max)
        return np.where(np.isnan(scaled), self.nodata, scaled).astype(self.cell_type)


FLOATS = Encoding()


@kernel
def _planes(cells, size, result):
    """Bytes of floats by weight, the highest first, each less the one before it in its row."""
    rows, cols = cells.shape[0], cells.shape[1] // size
    for r in range(rows):
        last = np.uint8(0)
        for plane in range(size):
            for c in range(cols):
                byte = cells[r, size * c + size - 1 - plane]
                result[r, plane * cols + c] = byte - last
                last = byte


def encode_tile(cells: npt.NDArray[Any]) -> bytes:
    """A tile of cells, differenced along rows and deflated."""
    if cells.dtype.kind == "f":
        size = cells.dtype.itemsize
        told = np.empty((cells.shape[0], cells.shape[1] * size), np.uint8)
        _planes(np.ascontiguousarray(cells).view(np.uint8), size, told)
    else:
        told = cells.copy()
        told[:, 1:] -= cells[:, :-1]
    return bytes(isal_zlib.compress(told.tobytes(), _DEFLATE))


def tiles_of(heights: npt.NDArray[Any], encoding: Encoding) -> list[list[bytes]]:
    """The encoded tiles of a block, row by row; what is missing of the last ones is empty."""
    rows, cols = -(-heights.shape[0] // TILE), -(-heights.shape[1] // TILE)
    whole = heights
    if heights.shape != (rows * TILE, cols * TILE):
        whole = np.full((rows * TILE, cols * TILE), np.nan, heights.dtype)
        whole[: heights.shape[0], : heights.shape[1]] = heights
    cells = encoding.cells(whole)
    return [
        [encode_tile(cells[r * TILE : (r + 1) * TILE, c * TILE : (c + 1) * TILE]) for c in range(cols)]
        for r in range(rows)
    ]


@kernel
def _halve(heights, result):
    rows, cols = heights.shape
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            total = 0.0
            count = 0
            for i in range(2 * r, min(2 * r + 2, rows)):
                for j in range(2 * c, min(2 * c + 2, cols)):
                    if not np.isnan(heights[i, j]):
                        total += heights[i, j]
                        count += 1
            result[r, c] = total / count if count else np.nan


@kernel
def _most_frequent(values, result):
    rows, cols = values.shape
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            best = np.nan
            most = 0
            for i in range(2 * r, min(2 * r + 2, rows)):
                for j in range(2 * c, min(2 * c + 2, cols)):
                    if np.isnan(values[i, j]):
                        continue
                    count = 0
                    for k in range(2 * r, min(2 * r + 2, rows)):
                        for m in range(2 * c, min(2 * c + 2, cols)):
                            count += values[k, m] == values[i, j]
                    if count > most:
                        best = values[i, j]
                        most = count
            result[r, c] = best


def halve(heights: npt.NDArray[Any], categorical: bool = False) -> Heights:
    """The next level.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        NaN where empty.
    categorical : bool
        Cells are categories.

    Returns
    -------
    ndarray, shape (ceil(rows / 2), ceil(cols / 2))
        float32: the mean of the cells among each 2 x 2 that are not empty; of categories the most frequent one, the first of them in
        reading order where several are. NaN where all are empty.

    Examples
    --------
    >>> cells = np.array([[1.0, 1.0, 4.0], [np.nan, 7.0, np.nan]])
    >>> halve(cells).tolist(), halve(cells, categorical=True).tolist()
    ([[3.0, 4.0]], [[1.0, 4.0]])
    """
    result = np.empty((-(-heights.shape[0] // 2), -(-heights.shape[1] // 2)), np.float32)
    if categorical:
        _most_frequent(np.ascontiguousarray(heights, np.float32), result)
    else:
        _halve(np.ascontiguousarray(heights), result)
    return result


@dataclass
class Block:
    """A block as `Writer.add` wants it: its tiles, and those of its overview with the heights these hold."""

    tiles: list[list[bytes]]
    half_tile: bytes
    half: Heights

    @classmethod
    def of(cls, heights: Heights, encoding: Encoding) -> Block:
        """Encode a block of at most BLOCK x BLOCK heights."""
        half = halve(heights, encoding.categorical)
        return cls(tiles_of(heights, encoding), tiles_of(half, encoding)[0][0], half)


class _Level:
    """Where the encoded tiles of one level lie in the scratch file, and what of its parents is there."""

    def __init__(self, rows: int, cols: int) -> None:
        self.rows, self.cols = rows, cols
        self.shape = (-(-rows // TILE), -(-cols // TILE))
        self.places = np.zeros(self.shape, np.int64)
        self.sizes = np.zeros(self.shape, np.int64)
        self.waiting: dict[tuple[int, int], tuple[Heights, int]] = {}


class Writer:
    """A file that is written block by block and is whole only after `finish`. A context manager; leaving it deletes the
    scratch file. crs: said instead of the grid's own, of which it is an extension. Raises OSError where the disk is full."""

    def __init__(
        self,
        path: Path,
        grid: Grid,
        encoding: Encoding = FLOATS,
        tags: dict[str, str] | None = None,
        crs: CRS | None = None,
    ) -> None:
        self._path, self._grid, self._encoding, self._tags = path, grid, encoding, tags or {}
        self._crs = crs or parse_crs(grid.crs)
        self._levels = [_Level(grid.rows, grid.cols)]
        while max(self._levels[-1].rows, self._levels[-1].cols) > TILE:
            last = self._levels[-1]
            self._levels.append(_Level(-(-last.rows // 2), -(-last.cols // 2)))
        self._scratch = path.with_name(f"{path.name.removesuffix(PART)}.tiles{PART}")
        self._file: BinaryIO = self._scratch.open("w+b")
        self._end = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            self._file.close()  # may want to write once more, to a disk that is full
        finally:
            self._scratch.unlink(missing_ok=True)

    def _keep(self, level: _Level, row: int, col: int, tile: bytes) -> None:
        self._file.write(tile)
        level.places[row, col], level.sizes[row, col] = self._end, len(tile)
        self._end += len(tile)

    def add(self, window: Window, block: Block) -> None:
        """Keep a block whose window starts at a multiple of BLOCK. Blocks may come in any order, each once."""
        row, col = window.row // TILE, window.col // TILE
        for i, tiles in enumerate(block.tiles):
            for j, tile in enumerate(tiles):
                self._keep(self._levels[0], row + i, col + j, tile)
        if len(self._levels) > 1:
            row, col = window.row // BLOCK, window.col // BLOCK
            self._keep(self._levels[1], row, col, block.half_tile)
            self._rise(1, row, col, block.half)

    def _rise(self, number: int, row: int, col: int, heights: Heights) -> None:
        """Give a tile's heights to the level above, and make the tile there once all four are known."""
        if number + 1 >= len(self._levels):
            return
        level, above = self._levels[number], self._levels[number + 1]
        at = (row // 2, col // 2)
        wide = min(2, level.shape[0] - 2 * at[0]) * min(2, level.shape[1] - 2 * at[1])
        half = halve(heights, self._encoding.categorical)
        held, had = above.waiting.pop(at, (None, 0))
        if held is None:
            rows, cols = min(TILE, above.rows - at[0] * TILE), min(TILE, above.cols - at[1] * TILE)
            held = np.full((rows, cols), np.nan, np.float32)
        top, left = (row % 2) * TILE // 2, (col % 2) * TILE // 2
        held[top : top + half.shape[0], left : left + half.shape[1]] = half
        if had + 1 < wide:
            above.waiting[at] = held, had + 1
            return
        self._keep(above, *at, tiles_of(held, self._encoding)[0][0])
        self._rise(number + 1, *at, held)

    def finish(self) -> None:
        """Write the file. Raises ValueError where a block was not given."""
        if any((level.sizes == 0).any() for level in self._levels):
            raise ValueError("A block of this surface was never given.")
        self._file.flush()
        big = self._end + sum(level.sizes.size * 40 for level in self._levels) > _CLASSIC_LIMIT
        texts = template(self._grid, self._encoding, self._tags, self._crs)
        layouts = [self._entries(number, level, texts) for number, level in enumerate(self._levels)]
        head = 16 if big else 8
        start = head + len(_ghost())
        at = start + sum(_directory_size(entries, big) for entries in layouts)
        starts: list[npt.NDArray[np.int64]] = [np.empty(0, np.int64)] * len(self._levels)
        for number in reversed(range(len(self._levels))):
            ends = at + np.cumsum(self._levels[number].sizes.ravel() + 8)
            starts[number] = ends - self._levels[number].sizes.ravel() - 4
            at = int(ends[-1])
        with self._path.open("wb") as out:
            out.write(struct.pack("<2sHHHQ", b"II", 43, 8, 0, start) if big else struct.pack("<2sHI", b"II", 42, start))
            out.write(_ghost())
            for number, entries in enumerate(layouts):
                offsets = starts[number].astype("<u8" if big else "<u4").tobytes()
                entries = [(tag, 16 if big else 4, count, offsets) if tag == 324 else (tag, kind, count, value)
                           for tag, kind, count, value in entries]  # fmt: skip
                here = out.tell()
                after = here + _directory_size(entries, big)
                out.write(_directory(entries, here, 0 if number + 1 == len(layouts) else after, big))
            for level in reversed(self._levels):
                for tile in self._tiles(level):
                    out.write(struct.pack("<I", len(tile)) + tile + tile[-4:])

    def _tiles(self, level: _Level) -> Iterator[bytes]:
        for place, size in zip(level.places.ravel().tolist(), level.sizes.ravel().tolist(), strict=True):
            self._file.seek(place)
            yield self._file.read(size)

    def _entries(self, number: int, level: _Level, texts: dict[int, Entry]) -> list[Entry]:
        """The tags of a level. Where its tiles lie is filled in when that is known."""
        cell = np.dtype(self._encoding.cell_type)
        sample = {"f": 3, "i": 2, "u": 1}[cell.kind]
        entries = [
            _number(254, 1 if number else 0, 4), _number(256, level.cols, 4), _number(257, level.rows, 4),
            _number(258, cell.itemsize * 8), _number(259, 8), _number(262, 1), _number(277, 1), _number(284, 1),
            _number(317, 2 if self._encoding.is_whole else 3), _number(322, TILE), _number(323, TILE),
            (324, 4, level.sizes.size, b""),
            (325, 4, level.sizes.size, level.sizes.astype("<u4").tobytes()),
            _number(339, sample),
        ]  # fmt: skip
        kept = _TEXT_TAGS[1:] if number else _PLACE_TAGS + _TEXT_TAGS
        return sorted([*entries, *(texts[tag] for tag in kept if tag in texts)])


def _number(tag: int, value: int, kind: int = 3) -> Entry:
    return tag, kind, 1, struct.pack("<H" if kind == 3 else "<I", value)


def _ghost() -> bytes:
    return b"GDAL_STRUCTURAL_METADATA_SIZE=%06d bytes\n" % len(_LAYOUT) + _LAYOUT


def _value_size(entry: Entry, big: bool) -> int:
    tag, _, count, value = entry
    return count * (8 if big else 4) if tag == 324 else len(value)


def _directory_size(entries: Sequence[Entry], big: bool) -> int:
    inline, head = (8, 8 + 8) if big else (4, 2 + 4)
    outside = (_value_size(entry, big) for entry in entries)
    return head + len(entries) * (20 if big else 12) + sum(size + size % 2 for size in outside if size > inline)


def _directory(entries: Sequence[Entry], here: int, after: int, big: bool) -> bytes:
    """A directory at byte `here` and the values that do not fit into it; the next one is at `after`."""
    inline, head = (8, 8 + 8) if big else (4, 2 + 4)
    at = here + head + len(entries) * (20 if big else 12)
    listed, outside = b"", b""
    for tag, kind, count, value in entries:
        if len(value) <= inline:
            told = value.ljust(inline, b"\0")
        else:
            told = struct.pack("<Q" if big else "<I", at + len(outside))
            outside += value + b"\0" * (len(value) % 2)
        listed += struct.pack("<HHQ" if big else "<HHI", tag, kind, count) + told
    number = struct.pack("<Q" if big else "<H", len(entries))
    return number + listed + struct.pack("<Q" if big else "<I", after) + outside


def template(grid: Grid, encoding: Encoding, tags: dict[str, str], crs: CRS) -> dict[int, Entry]:
    """The tags that say place, CRS, metadata and the empty value, as rasterio writes them for a file of one cell."""
    with rasterio.MemoryFile() as memory:
        with memory.open(
            driver="GTiff", dtype=encoding.cell_type, count=1, width=1, height=1, crs=crs.to_wkt(),
            transform=grid.transform, nodata=encoding.nodata,
        ) as dataset:  # fmt: skip
            dataset.update_tags(**tags)
            if encoding.is_whole and encoding.scale != 1.0:
                dataset.scales = (encoding.scale,)
        return {entry[0]: entry for entry in _read_directory(memory.read()) if entry[0] in _PLACE_TAGS + _TEXT_TAGS}


def _read_directory(file: bytes) -> Iterator[Entry]:
    """The tags of the first directory of a small TIFF in the Intel order."""
    (start,) = struct.unpack_from("<I", file, 4)
    (number,) = struct.unpack_from("<H", file, start)
    for i in range(number):
        at = start + 2 + 12 * i
        tag, kind, count = struct.unpack_from("<HHI", file, at)
        size = count * {1: 1, 2: 1, 3: 2, 4: 4, 12: 8}.get(kind, 1)
        place = at + 8 if size <= 4 else struct.unpack_from("<I", file, at + 8)[0]
        yield tag, kind, count, file[place : place + size]
