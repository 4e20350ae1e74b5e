"""Surfaces as text: ASCII grid (a header and rows of heights, north first) and XYZ (a row for each cell with a height).

Written strip by strip in bounded memory. Both are read by `raster` and by `delimited`; neither can say its CRS, so
ASCII grids bring it in a file of the same name that ends with `.prj`.
"""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.grid import Window, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Surface

NODATA = -9999
"""What empty cells of an ASCII grid hold. Heights at or below it are refused."""

_STRIP_CELLS = 1_000_000
_WIDEST = 26  # letters of the longest number
_LARGEST = 9e11  # with six decimals this still fits into 64 bits exactly


@kernel
def _put(value, decimals, out, at):
    """Write a number with that many decimals, rounded half away from zero, trailing zeros left away."""
    scale = 1
    for _ in range(decimals):
        scale *= 10
    scaled = np.int64(np.floor(abs(value) * scale + 0.5))
    if value < 0 and scaled > 0:
        out[at] = 45  # -
        at += 1
    whole, part = scaled // scale, scaled % scale
    digits = 1
    rest = whole
    while rest >= 10:
        rest //= 10
        digits += 1
    rest = whole
    for i in range(digits - 1, -1, -1):
        out[at + i] = 48 + rest % 10
        rest //= 10
    at += digits
    if part:
        left = decimals
        while part % 10 == 0:
            part //= 10
            left -= 1
        out[at] = 46  # .
        for i in range(left, 0, -1):
            out[at + i] = 48 + part % 10
            part //= 10
        at += left + 1
    return at


@kernel
def _rows(heights, decimals, nodata, out):
    at = 0
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if c:
                out[at] = 32
                at += 1
            value = heights[r, c]
            at = _put(np.float64(nodata) if np.isnan(value) else np.float64(value), decimals, out, at)
        out[at] = 10
        at += 1
    return at


@kernel
def _triples(heights, x, y, decimals, place_decimals, out):
    at = 0
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if np.isnan(heights[r, c]):
                continue
            at = _put(x[c], place_decimals, out, at)
            out[at] = 32
            at = _put(y[r], place_decimals, out, at + 1)
            out[at] = 32
            at = _put(np.float64(heights[r, c]), decimals, out, at + 1)
            out[at] = 10
            at += 1
    return at


def _strips(surface: Surface, progress: Progress):  # type: ignore[no-untyped-def]
    grid = surface.grid
    step = max(1, _STRIP_CELLS // grid.cols)
    for row in range(0, grid.rows, step):
        window = Window(row, 0, min(step, grid.rows - row), grid.cols)
        heights = surface.read(window)
        with np.errstate(invalid="ignore"):
            if (np.abs(heights) > _LARGEST).any():
                raise InputError("Heights beyond 9e11 are no heights; this surface cannot be written as text.")
        yield window, heights
        progress((row + window.rows) / grid.rows)


@kernel
def _tokens(text, state, where):
    """Go on through the words of a grid's body. state: words so far, whether within one, whether that one has a digit, whether
    it has a letter that no number has, its first letter's place in this part of the text. Returns the place of the first
    word that is no number, with its end in `where`; -1 where there is none."""
    for i in range(text.size):
        letter = text[i]
        if letter == 32 or 9 <= letter <= 13:
            if state[1]:
                state[1] = 0
                state[0] += 1
                if state[3] or not state[2]:
                    where[0] = i
                    return state[4]
            continue
        if not state[1]:
            state[1], state[2], state[3], state[4] = 1, 0, 0, i
        if 48 <= letter <= 57:
            state[2] = 1
        elif not (letter == 43 or letter == 45 or letter == 46 or letter == 101 or letter == 69):
            state[3] = 1
    return -1


_HEADER = re.compile(
    rb"\s*(ncols|nrows|xll(?:corner|center)|yll(?:corner|center)|cellsize|dx|dy|nodata_value)\s+(\S+)", re.I
)
_NOT_A_NUMBER = re.compile(rb"[+-]?(nan|inf|infinity)", re.IGNORECASE)
_CHUNK = 1 << 22


def check_ascii(path: Path, name: str) -> None:
    """Look at every value of an ASCII grid: libraries read a letter as 0, and what is missing too.

    Raises InputError where a value is no number, or where there are more or fewer than rows times columns.
    """
    with path.open("rb") as file:
        head = file.read(4096)
        said: dict[bytes, bytes] = {}
        at = 0
        while found := _HEADER.match(head, at):
            said[found.group(1).lower()] = found.group(2)
            at = found.end()
        try:
            cols, rows = int(said[b"ncols"]), int(said[b"nrows"])
        except (KeyError, ValueError) as error:
            raise InputError(f"{name} does not say how many rows and columns it has. Export it again.") from error
        file.seek(at)
        state, where = np.zeros(5, np.int64), np.zeros(1, np.int64)
        rest = b""
        while part := file.read(_CHUNK):
            held = rest + part
            cut = max(held.rfind(b" "), held.rfind(b"\n")) + 1
            rest = held[cut:]
            if len(rest) > _CHUNK:
                raise InputError(
                    f"{name} holds a word of more than {_CHUNK >> 20} million letters where heights should be."
                )
            _check_words(np.frombuffer(held[:cut], np.uint8), held, state, where, cols, name)
        _check_words(np.frombuffer(rest + b"\n", np.uint8), rest, state, where, cols, name)
    count = int(state[0])
    if count != rows * cols:
        raise InputError(
            f"{name} says {cols} x {rows} cells, which are {rows * cols}, and holds {count} values. "
            + ("It is cut short; get it again." if count < rows * cols else "Its header is wrong; export it again.")
        )


def _check_words(text, held, state, where, cols, name):  # type: ignore[no-untyped-def]
    first = 0
    while (bad := int(_tokens(text[first:], state, where))) >= 0:
        word = held[first + bad : first + int(where[0])]
        if not _NOT_A_NUMBER.fullmatch(word):
            row, col = divmod(int(state[0]) - 1, cols)
            raise InputError(
                f"{name} holds {word[:20].decode('latin-1')!r} in row {row + 1}, column {col + 1}, where a height should be. "
                "Write its empty cells with the value that its header declares, or export it again."
            )
        first += int(where[0])


def write_ascii(surface: Surface, path: str | Path, decimals: int = 3, progress: Progress = ignore_progress) -> None:
    """Write an ASCII grid with its `.prj`. decimals: of heights, 0 to 6. Raises InputError where cells are not square
    or a height lies below the value that means empty."""
    grid = surface.grid
    if abs(grid.cell_width - grid.cell_height) > 1e-9 * grid.cell_width:
        raise InputError(f"An ASCII grid has square cells; these are {grid.cell_width:g} by {grid.cell_height:g}. "
                         "Write a GeoTIFF, or fit it to a frame with square cells first.")  # fmt: skip
    path = Path(path)
    with replacing(path) as part, part.open("wb") as file:
        file.write(
            f"ncols {grid.cols}\nnrows {grid.rows}\nxllcorner {grid.bounds.west!r}\nyllcorner {grid.bounds.south!r}\n"
            f"cellsize {grid.cell_width!r}\nNODATA_value {NODATA}\n".encode()
        )
        for window, heights in _strips(surface, progress):
            if np.nanmin(heights, initial=np.inf) <= NODATA:
                raise InputError(f"Heights at or below {NODATA} would read as empty cells. Write a GeoTIFF instead.")
            out = np.empty(window.rows * (window.cols * _WIDEST + 1), np.uint8)
            file.write(out[: _rows(heights, decimals, NODATA, out)].tobytes())
    path.with_suffix(".prj").write_text(parse_crs(grid.crs).to_wkt("WKT1_GDAL"), encoding="utf-8")


def write_xyz(surface: Surface, path: str | Path, decimals: int = 3, progress: Progress = ignore_progress) -> None:
    """Write x, y and height of every cell that has one, at its centre, rows from north to south."""
    grid = surface.grid
    place_decimals = 9 if parse_crs(grid.crs).is_geographic else 4
    with replacing(Path(path)) as part, part.open("wb") as file:
        for window, heights in _strips(surface, progress):
            x, y = grid.centres(window)
            out = np.empty(heights.size * 3 * (_WIDEST + 1), np.uint8)
            file.write(out[: _triples(heights, x, y, decimals, place_decimals, out)].tobytes())
