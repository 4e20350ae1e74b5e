"""Surfaces: heights on a grid, read by window. Stored ones come from a file, live ones are computed on sight.

Every surface answers `read(window, level)` with float32 `(rows, cols)`, NaN where empty. A window may reach
past the grid; what lies outside is empty. Level n has cells of 2**n x 2**n level-0 cells and is for looking:
its heights are means of the non-empty cells below it (stored) or computed from such means (live).
"""

from __future__ import annotations

import errno
import os
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ThreadPoolExecutor, wait
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt
from affine import Affine

os.environ.setdefault("GDAL_CACHEMAX", "48")  # MB, a few rows of tiles; the library takes a share of the machine


from yama.terrain import cog
from yama.terrain.cluster import pool
from yama.terrain.cog import BLOCK, FLOATS, Encoding, halve
from yama.terrain.ending import until
from yama.terrain.errors import GridError, InputError
from yama.terrain.files import replacing
from yama.terrain.grid import FloatArray, Grid, Window, compound, crs_name, horizontal, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress

rasterio = later("rasterio")

Heights = npt.NDArray[np.float32]
Made = TypeVar("Made")

_NEAR = 256
"""Cells of a square whose positions are read together."""


_PATIENCE = 0.5  # seconds
_ANEW: dict[type, Any] = {type(threading.Lock()): threading.Lock, threading.local: threading.local}


class Surface(ABC):
    """Heights on a grid. `unit` is the height unit, `vertical_datum` what zero means, as far as known.

    by_parts: whole parts are made when first looked at, after which reading a cell of them costs nothing more.
    fingerprint: plain values that say what it is, the same in every process; None where that is not known.
    encoding: what its cells are written as when it is stored, unless told otherwise.
    """

    by_parts: bool = False
    encoding: Encoding = FLOATS
    fingerprint: tuple[Any, ...] | None = None

    def __init__(self, grid: Grid, unit: str = "m", vertical_datum: str = "") -> None:
        self.grid = grid
        self.unit = unit
        self.vertical_datum = vertical_datum

    def __getstate__(self) -> dict[str, Any]:
        """Without locks and open files: another process has its own."""
        return {name: _ANEW.get(type(value), value) for name, value in vars(self).items()}

    def __setstate__(self, state: dict[str, Any]) -> None:
        anew = tuple(_ANEW.values())
        for name, value in state.items():
            setattr(self, name, value() if any(value is one for one in anew) else value)

    @property
    def seconds(self) -> float | None:
        """How long one core takes to make all cells, where looking at a few does not tell; None where it does."""
        return None

    @abstractmethod
    def read(self, window: Window, level: int = 0) -> Heights:
        """Heights of a window of level `level`: float32 `(window.rows, window.cols)`, NaN where empty."""

    def read_all(self) -> Heights:
        """All cells at once; for small surfaces only."""
        return self.read(self.grid.whole)


class ArraySurface(Surface):
    """Heights held in memory: `(grid.rows, grid.cols)`."""

    def __init__(self, heights: npt.ArrayLike, grid: Grid, unit: str = "m", vertical_datum: str = "") -> None:
        super().__init__(grid, unit, vertical_datum)
        self._levels = [np.asarray(heights, np.float32)]
        if self._levels[0].shape != (grid.rows, grid.cols):
            raise GridError(f"Heights of shape {self._levels[0].shape} do not fit {grid.rows} x {grid.cols} cells.")

    def read(self, window: Window, level: int = 0) -> Heights:
        while len(self._levels) <= level:
            self._levels.append(halve(self._levels[-1]))
        return cut_out(self._levels[level], window)


class EvaluatedSurface(Surface):
    """Heights from a function of position, such as an interpolator.

    `evaluate(grid)` returns `(grid.rows, grid.cols)` heights at the cell centres of any grid in this CRS. A
    level is evaluated at its own cell centres, so that a preview costs what its screen costs.
    """

    def __init__(
        self, grid: Grid, evaluate: Callable[[Grid], Heights], unit: str = "m", vertical_datum: str = ""
    ) -> None:
        super().__init__(grid, unit, vertical_datum)
        self.evaluate = evaluate

    def read(self, window: Window, level: int = 0) -> Heights:
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        if inside.rows and inside.cols:
            heights = self.evaluate(grid.part(inside))
            put_in(result, heights, inside.row - window.row, inside.col - window.col)
        return result


class LiveSurface(Surface):
    """Heights computed from other surfaces on the same grid, window by window.

    `compute(arrays, grid)` gets each input's heights with `halo` more cells on each side and the grid those
    arrays lie on; it returns heights without the halo.
    """

    def __init__(
        self,
        inputs: Sequence[Surface],
        compute: Callable[[list[Heights], Grid], Heights],
        halo: int = 0,
        unit: str = "m",
        vertical_datum: str = "",
    ) -> None:
        grid = inputs[0].grid
        for other in inputs[1:]:
            if other.grid != grid:
                raise GridError("The inputs of a live surface do not share one grid. Fit them to the frame first.")
        super().__init__(grid, unit, vertical_datum)
        self._inputs = list(inputs)
        self._compute = compute
        self._halo = halo

    def read(self, window: Window, level: int = 0) -> Heights:
        wide = window.grown(self._halo)
        arrays = [surface.read(wide, level) for surface in self._inputs]
        result = self._compute(arrays, self.grid.at_level(level).part(wide))
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        if inside != window:  # a function of empty cells need not be empty
            result = cut_out(result, Window(inside.row - window.row, inside.col - window.col, inside.rows, inside.cols))
            padded = np.full((window.rows, window.cols), np.nan, np.float32)
            put_in(padded, result, inside.row - window.row, inside.col - window.col)
            return padded
        return result


class _Handles:
    """Open handles of a raster file: of each level as many as have read at one time. A thread that is new takes one that rests,
    with the blocks it has decoded. In another process there are none yet."""

    def __init__(self, path: Path, driver: str) -> None:
        self._path, self._driver = path, driver
        self._resting: dict[
            tuple[int, int], list[Any]
        ] = {}  # by process: a forked one would share the place in the file
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self._path, self._driver)

    @contextmanager
    def lent(self, level: int) -> Iterator[Any]:
        """A handle for one reader at a time. One whose reader failed is not lent again."""
        with self._lock:
            resting = self._resting.setdefault((os.getpid(), level), [])
            handle = resting.pop() if resting else None
        if handle is None:
            overview = {"overview_level": level - 1} if level else {}
            handle = rasterio.open(self._path, driver=self._driver, **overview)
        yield handle
        resting.append(handle)


def has_mask(dataset: Any) -> bool:
    """Whether a raster file says by a mask or an alpha band, and not by a value, which of its cells are empty."""
    return rasterio.enums.MaskFlags.per_dataset in dataset.mask_flag_enums[0]


class StoredSurface(Surface):
    """Heights in a raster file, read through rasterio.

    driver: the only one that may open it. crs: instead of the file's own. empty: a further cell value that means
    empty. factor: cells times this are heights in metres; given, the file's own word on its unit does not count. place: where its
    cells lie, instead of what the file says.
    """

    def __init__(
        self,
        path: str | Path,
        band: int = 1,
        unit: str | None = None,
        vertical_datum: str = "",
        name: str = "",
        driver: str = "GTiff",
        crs: str = "",
        empty: float | None = None,
        factor: float | None = None,
        place: Affine | None = None,
    ) -> None:
        self.path = Path(path)
        self._name = name or self.path.name
        self._band = band
        self._driver = driver
        self._handles = _Handles(self.path, driver)
        try:
            with rasterio.open(self.path, driver=driver) as dataset:
                if dataset.crs is None and not crs:
                    raise InputError(f"{self._name} does not say its CRS. Give it one before using it.")
                crs = crs or crs_name(horizontal(parse_crs(dataset.crs.to_wkt())))
                grid = Grid.from_transform(crs, place or dataset.transform, dataset.height, dataset.width)
                tags = dataset.tags()
                self._nodata = dataset.nodatavals[band - 1]
                self._empty = empty
                self._scale = dataset.scales[band - 1] * (factor or 1.0)
                self._offset = dataset.offsets[band - 1] * (factor or 1.0)
                self._overviews = dataset.overviews(band)
                self._masked = has_mask(dataset)
        except rasterio.errors.RasterioError as error:
            raise InputError(f"{self._name} cannot be read as a raster: {error}") from error
        file = self.path.stat()
        self.fingerprint = (str(self.path.resolve()), file.st_mtime_ns, file.st_size, band, crs, empty, factor, place)
        said = tags.get("HEIGHT_UNIT", "m") if factor is None else "m"
        super().__init__(grid, unit or said, vertical_datum or tags.get("VERTICAL_DATUM", ""))

    def read(self, window: Window, level: int = 0) -> Heights:
        if level > 0 and (level > len(self._overviews) or self._overviews[level - 1] != 2**level):
            finer = Window(window.row * 2, window.col * 2, window.rows * 2, window.cols * 2)
            return halve(self.read(finer, level - 1))
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        try:
            with self._handles.lent(level) as dataset:
                inside = window.clipped(dataset.height, dataset.width)
                if not (inside.rows and inside.cols):
                    return result
                rows = (inside.row, inside.row + inside.rows)
                cols = (inside.col, inside.col + inside.cols)
                raw = dataset.read(self._band, window=(rows, cols))
                masked = dataset.read_masks(self._band, window=(rows, cols)) == 0 if self._masked else None
        except rasterio.errors.RasterioError as error:
            raise InputError(
                f"{self._name}: rows {window.row} to {window.row + window.rows} cannot be read; "
                "the file is damaged or cut short. Get it again."
            ) from error
        heights = raw.astype(np.float32)
        if masked is not None:
            heights[masked] = np.nan
        if self._nodata is not None and not np.isnan(self._nodata):
            heights[raw == raw.dtype.type(self._nodata)] = np.nan
        if self._empty is not None:
            heights[raw == self._empty] = np.nan
        if self._scale != 1.0 or self._offset != 0.0:
            heights = (heights * np.float32(self._scale) + np.float32(self._offset)).astype(np.float32)
        heights[~np.isfinite(heights)] = np.nan
        put_in(result, heights, inside.row - window.row, inside.col - window.col)
        return result


# -- small array helpers ------------------------------------------------------------------------------


def cut_out(heights: Heights, window: Window) -> Heights:
    """A copy of a window of an array, NaN where the window reaches past it."""
    rows, cols = heights.shape
    inside = window.clipped(rows, cols)
    part = heights[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols]
    if inside == window:
        return part.copy()
    result = np.full((window.rows, window.cols), np.nan, np.float32)
    put_in(result, part, inside.row - window.row, inside.col - window.col)
    return result


def put_in(target: Heights, part: Heights, row: int, col: int) -> None:
    """Copy `part` into `target` with its first cell at (row, col)."""
    target[row : row + part.shape[0], col : col + part.shape[1]] = part


# -- storing --------------------------------------------------------------------------------------------


@dataclass
class Statistics:
    """What all cells of a surface say together. Heights are None where every cell is empty."""

    cells: int = 0
    empty: int = 0
    lowest: float | None = None
    highest: float | None = None
    mean: float | None = None
    deviation: float | None = None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return dict(self.__dict__)


@dataclass
class Moments:
    """Count, mean, squares and extremes of a block, which add up (T. F. Chan et al., "Updating formulae", 1979)."""

    cells: int = 0
    count: int = 0
    mean: float = 0.0
    squares: float = 0.0
    lowest: float = np.inf
    highest: float = -np.inf

    @classmethod
    def of(cls, heights: Heights) -> Moments:
        """Those of an array."""
        filled = heights[~np.isnan(heights)].astype(np.float64)
        if not filled.size:
            return cls(heights.size)
        mean = float(filled.mean())
        squares = float(((filled - mean) ** 2).sum())
        return cls(heights.size, filled.size, mean, squares, float(filled.min()), float(filled.max()))

    def __add__(self, other: Moments) -> Moments:
        count = self.count + other.count
        shift = other.mean - self.mean
        return Moments(
            self.cells + other.cells,
            count,
            self.mean + shift * other.count / max(count, 1),
            self.squares + other.squares + shift**2 * self.count * other.count / max(count, 1),
            min(self.lowest, other.lowest),
            max(self.highest, other.highest),
        )


def _summed(blocks: dict[tuple[int, int], Moments]) -> Statistics:
    """Statistics of blocks by their place: summed in order of it, so that it does not matter which was ready first."""
    total = sum((blocks[place] for place in sorted(blocks)), Moments())
    if not total.count:
        return Statistics(cells=total.cells, empty=total.cells)
    return Statistics(
        cells=total.cells,
        empty=total.cells - total.count,
        lowest=total.lowest,
        highest=total.highest,
        mean=total.mean,
        deviation=float(np.sqrt(total.squares / total.count)),
    )


def walk(
    surface: Surface,
    make: Callable[[Surface, Window], Made],
    visit: Callable[[Window, Made], None],
    progress: Progress = ignore_progress,
    executor: Executor | None = None,
    workers: int = 2,
    block: int = BLOCK,
) -> None:
    """Make something of every block of a surface on all cores and hand it to `visit`, in no set order, one at a time.

    At most twice `workers` blocks are held. Whatever `visit` or `progress` raises ends the walk; `progress` is called every half
    second at least, and what is being made hears of the end (see `ending`) where it takes long.
    """
    own = pool(workers) if executor is None else None
    taken = executor or own
    assert taken is not None
    todo = iter(list(surface.grid.blocks(block)))
    total = -(-surface.grid.rows // block) * -(-surface.grid.cols // block)
    running: dict[Future[Made], Window] = {}
    done = 0
    ended = threading.Event()
    work = until(ended, make) if isinstance(taken, ThreadPoolExecutor) else make
    try:
        while True:
            for window in todo:
                running[taken.submit(work, surface, window)] = window
                if len(running) >= 2 * workers:
                    break
            if not running:
                return
            finished, _ = wait(running, timeout=_PATIENCE, return_when=FIRST_COMPLETED)
            if not finished:
                progress(done / total)
            for future in finished:
                visit(running.pop(future), future.result())
                done += 1
                progress(done / total)
    finally:
        ended.set()
        for future in running:
            future.cancel()
        if own:
            own.shutdown(wait=True, cancel_futures=True)


@dataclass
class _Encoded:
    """Makes blocks ready to be written."""

    encoding: Encoding

    def __call__(self, surface: Surface, window: Window) -> tuple[Moments, cog.Block]:
        heights = surface.read(window)
        return Moments.of(heights), cog.Block.of(heights, self.encoding)


def store(
    surface: Surface,
    path: str | Path,
    progress: Progress = ignore_progress,
    executor: Executor | None = None,
    workers: int = 2,
    tags: dict[str, str] | None = None,
    encoding: Encoding | None = None,
    given_away: bool = False,
) -> Statistics:
    """Write a surface as a cloud-optimised GeoTIFF (as `surface.encoding` says, unless told otherwise) and return its statistics.

    given_away: the file says its zero level in its CRS too, for programs that look for it there.
    Works block by block in bounded memory and writes beside `path` under another name; `path` appears only
    when the file is whole. Raises CancelledError when `progress` does, and InputError where the disk is full; leaves
    nothing behind then.
    """
    path = Path(path)
    encoding = encoding or surface.encoding
    found: dict[tuple[int, int], Moments] = {}
    said = {
        "HEIGHT_UNIT": surface.unit, "VERTICAL_DATUM": surface.vertical_datum, "AREA_OR_POINT": "Area", **(tags or {})
    }  # fmt: skip

    def keep(window: Window, made: tuple[Moments, cog.Block]) -> None:
        found[window.row, window.col] = made[0]
        writer.add(window, made[1])

    crs = compound(surface.grid.crs, surface.vertical_datum, surface.unit) if given_away else None
    with refused_by_disk(path), replacing(path) as part, cog.Writer(part, surface.grid, encoding, said, crs) as writer:
        walk(surface, _Encoded(encoding), keep, lambda share: progress(share * 0.95), executor, workers)
        writer.finish()
        progress(1.0)
    return _summed(found)


@contextmanager
def refused_by_disk(path: Path) -> Iterator[None]:
    """Say in a sentence that a disk is full where writing `path` finds it so."""
    try:
        yield
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise
        raise InputError(
            f"There is no room left on the disk for {path.name}; nothing of it was kept. Free some space and start it again."
        ) from error


def read_block(surface: Surface, window: Window) -> Heights:
    """What a walk makes where the heights themselves are wanted."""
    return surface.read(window)


def _moments(surface: Surface, window: Window) -> Moments:
    return Moments.of(surface.read(window))


def statistics(surface: Surface, progress: Progress = ignore_progress, workers: int = 2) -> Statistics:
    """Statistics over all cells of a surface, read block by block."""
    found: dict[tuple[int, int], Moments] = {}

    def keep(window: Window, moments: Moments) -> None:
        found[window.row, window.col] = moments

    walk(surface, _moments, keep, progress, None, workers)
    return _summed(found)


def sample(surface: Surface, x: npt.ArrayLike, y: npt.ArrayLike, nearest: bool = False) -> FloatArray:
    """Heights at positions by bilinear interpolation between cell centres, or those of the nearest cells.

    x, y: `(points,)` in the surface's CRS. Returns float64 `(points,)`, NaN outside and where any of the
    cells that carry weight is empty. Positions are read in blocks, so that scattered ones stay cheap.
    """
    grid = surface.grid
    cols = np.atleast_1d(grid.col_of(x))
    rows = np.atleast_1d(grid.row_of(y))
    if nearest:
        cols, rows = np.rint(cols), np.rint(rows)
    result = np.full(cols.size, np.nan)
    inside = np.isfinite(cols) & np.isfinite(rows)
    inside &= (cols > -1) & (rows > -1) & (cols < grid.cols) & (rows < grid.rows)
    usable = np.flatnonzero(inside)
    down, across = (np.floor(at[usable] / _NEAR).astype(np.int64) for at in (rows, cols))
    blocks = down * (grid.cols // _NEAR + 2) + across
    order = np.argsort(blocks, kind="stable")
    for chosen in np.split(usable[order], np.flatnonzero(np.diff(blocks[order])) + 1):
        if not chosen.size:
            continue
        top, left = int(np.floor(rows[chosen].min())), int(np.floor(cols[chosen].min()))
        bottom, right = int(np.floor(rows[chosen].max())) + 2, int(np.floor(cols[chosen].max())) + 2
        heights = surface.read(Window(top, left, bottom - top, right - left))
        found = np.empty(chosen.size)
        _bilinear(heights, rows[chosen] - top, cols[chosen] - left, found)
        result[chosen] = found
    return result


@kernel
def _bilinear(heights, rows, cols, result):
    for i in range(result.size):
        r0 = min(max(int(np.floor(rows[i])), 0), heights.shape[0] - 1)
        c0 = min(max(int(np.floor(cols[i])), 0), heights.shape[1] - 1)
        r1 = min(r0 + 1, heights.shape[0] - 1)
        c1 = min(c0 + 1, heights.shape[1] - 1)
        down = rows[i] - r0
        right = cols[i] - c0
        total = 0.0
        for dr in range(2):
            for dc in range(2):
                weight = (down if dr else 1.0 - down) * (right if dc else 1.0 - right)
                if abs(weight) > 1e-9:  # a neighbour of no weight may be empty
                    total += weight * heights[r1 if dr else r0, c1 if dc else c0]
        result[i] = total
