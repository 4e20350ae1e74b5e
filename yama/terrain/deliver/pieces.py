"""A surface cut into a grid of files, and a surface as a picture that other programs know the place of."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.cog import Encoding
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window, parse_crs
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import png_of, span_of, view_pixels
from yama.terrain.surface import Heights, Over, Surface, store

LEAST_SIDE = 256
MOST_FILES = 5_000
MOST_PIXELS = 4_096
"""Pixels of a picture along a side."""
_STRIP = 256


class Piece(Over):
    """A window of a surface, on its own grid; the surface's own cells."""

    def __init__(self, surface: Surface, window: Window) -> None:
        super().__init__(surface, surface.grid.part(window))
        self._window, self.encoding = window, surface.encoding

    def settings(self) -> tuple[Any, ...]:
        return (self._window,)

    def companion(self, name: str, below: Surface) -> Surface | None:
        return Piece(below, self._window)

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`; of level 0 only, since its coarser cells would lie elsewhere than the surface's."""
        if level:
            raise InputError("A piece of a surface is read cell by cell.")
        found: Heights = self._part(window, self.surface.read, np.float32)
        return found

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        return self._part(window, self.surface.read_exact, np.float64)

    def _part(self, window: Window, read: Callable[[Window], npt.NDArray[Any]], kind: type[Any]) -> npt.NDArray[Any]:
        inside = window.clipped(self._window.rows, self._window.cols)
        result = np.full((window.rows, window.cols), np.nan, kind)
        if inside.rows and inside.cols:
            moved = inside._replace(row=inside.row + self._window.row, col=inside.col + self._window.col)
            top, left = inside.row - window.row, inside.col - window.col
            result[top : top + inside.rows, left : left + inside.cols] = read(moved)
        return result


def pieces(grid: Grid, side: int) -> list[tuple[str, Window]]:
    """Windows of `side` cells from the north-west on, with `r1c1` for a name. Raises InputError for too many or too small ones."""
    rows, cols = -(-grid.rows // side), -(-grid.cols // side)
    if side < LEAST_SIDE or rows * cols > MOST_FILES:
        raise InputError(f"Files of {side} cells a side would be {rows * cols}; take {LEAST_SIDE} or more, and at most {MOST_FILES} "
                         "files.")  # fmt: skip
    wide = (len(str(rows)), len(str(cols)))
    return [
        (
            f"r{r + 1:0{wide[0]}}c{c + 1:0{wide[1]}}",
            Window(r * side, c * side, min(side, grid.rows - r * side), min(side, grid.cols - c * side)),
        )
        for r in range(rows)
        for c in range(cols)
    ]


def store_pieces(
    surface: Surface,
    path: Path,
    side: int,
    progress: Progress = ignore_progress,
    tags: dict[str, str] | None = None,
    encoding: Encoding | None = None,
) -> Iterator[Path]:
    """Store a surface as GeoTIFFs of `side` cells named after `path` and their place in the grid; those with no height are left
    out. Put side by side they are the surface, cell for cell."""
    listed = pieces(surface.grid, side)
    for done, (place, window) in enumerate(listed):
        file = path.with_name(f"{path.stem} {place}{path.suffix}")
        found = store(Piece(surface, window), file, tags=tags, encoding=encoding, given_away=True)
        progress((done + 1) / len(listed))
        if found.empty == found.cells:
            file.unlink()
        else:
            yield file


def write_picture(surface: Surface, path: Path, dress: Dress, progress: Progress = ignore_progress) -> list[Path]:
    """Write a PNG as the surface is dressed, empty cells clear, with a world file (.pgw: the size of a pixel, then the centre of the
    first one) and a .prj with the CRS. It has a pixel a cell, or for large surfaces one for 2**n of them; it is painted in strips.
    Raises CancelledError when `progress` does."""
    level = 0
    while max(surface.grid.at_level(level).rows, surface.grid.at_level(level).cols) > MOST_PIXELS:
        level += 1
    grid = surface.grid.at_level(level)
    if dress.low is None or dress.high is None:  # the same for every strip
        low, high = span_of(surface, surface.grid.at_level(level + 2)) or (0.0, 1.0)
        dress = replace(
            dress, low=low if dress.low is None else dress.low, high=high if dress.high is None else dress.high
        )
    pixels = np.empty((grid.rows, grid.cols, 4), np.uint8)
    for top in range(0, grid.rows, _STRIP):
        window = Window(top, 0, min(_STRIP, grid.rows - top), grid.cols)
        pixels[top : top + window.rows] = view_pixels(surface, grid.part(window), dress, clear=True)
        progress((top + window.rows) / grid.rows)
    path.write_bytes(png_of(pixels))
    world = (grid.cell_width, 0.0, 0.0, -grid.cell_height, grid.x_of(0), grid.y_of(0))
    beside = [path.with_suffix(".pgw"), path.with_suffix(".prj")]
    beside[0].write_text("".join(f"{float(value)!r}\n" for value in world), encoding="ascii")
    beside[1].write_text(parse_crs(grid.crs).to_wkt("WKT1_GDAL"), encoding="utf-8")
    return [path, *beside]
