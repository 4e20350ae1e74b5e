"""Grid: the one place that knows where cells lie.

Row 0 is north, column 0 is west, and a cell's height belongs to its centre. Coordinates are always
`x, y` (east, north) in float64. Grids are north-up; a rotated raster enters through a resampling.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from affine import Affine
from pyproj import CRS, Geod, Transformer
from pyproj.crs import CompoundCRS
from pyproj.exceptions import CRSError

from yama.terrain.errors import GridError

FloatArray = npt.NDArray[np.float64]

MAX_CELLS = 20_000_000_000
"""The largest grid accepted anywhere: 20 thousand million cells (80 GB of heights)."""

_FURTHEST = 1e9
"""No coordinate in any unit in use is larger."""

_MOST_BANDS = 512
_TRUE = 1e-3
"""Lengths of a CRS that differ from those on the ground by less than this share count as true."""

_PHASE_TOLERANCE = 1e-6
"""Two grids agree when their cells lie apart by less than this share of a cell."""


class Window(NamedTuple):
    """A block of cells: first row, first column, number of rows and columns. May reach past its grid."""

    row: int
    col: int
    rows: int
    cols: int

    def grown(self, halo: int) -> Window:
        """This window with `halo` more cells on each side."""
        return Window(self.row - halo, self.col - halo, self.rows + 2 * halo, self.cols + 2 * halo)

    def clipped(self, rows: int, cols: int) -> Window:
        """The part of this window inside a grid of `rows` x `cols`; zero-sized where there is none."""
        top, left = min(max(self.row, 0), rows), min(max(self.col, 0), cols)
        bottom = max(min(self.row + self.rows, rows), top)
        right = max(min(self.col + self.cols, cols), left)
        return Window(top, left, bottom - top, right - left)


class Bounds(NamedTuple):
    """An upright rectangle in the units of its CRS."""

    west: float
    south: float
    east: float
    north: float

    def holds(self, x: float, y: float) -> bool:
        """Whether a position lies inside or on the edge."""
        return self.west <= x <= self.east and self.south <= y <= self.north

    @property
    def middle(self) -> tuple[float, float]:
        """x and y of the middle."""
        return (self.west + self.east) / 2, (self.south + self.north) / 2

    def intersection(self, other: Bounds) -> Bounds | None:
        """The rectangle both share, or None."""
        west, south = max(self.west, other.west), max(self.south, other.south)
        east, north = min(self.east, other.east), min(self.north, other.north)
        return Bounds(west, south, east, north) if west < east and south < north else None


@lru_cache(maxsize=256)
def parse_crs(text: str) -> CRS:
    """A CRS from `EPSG:32741`, a bare code, WKT or a PROJ string. Raises GridError with advice."""
    try:
        crs = CRS.from_user_input(int(text) if text.strip().isdecimal() else text)
    except (CRSError, UnicodeError, ValueError, OverflowError) as error:
        raise GridError(f"The CRS {text[:60]!r} is not known. Give an EPSG code such as EPSG:32741.") from error
    plain = horizontal(crs)
    if not (plain.is_geographic or plain.is_projected):
        raise GridError(
            f"The CRS {crs.name[:60]!r} ({crs.type_name}) says no place on the earth. Name the one that its coordinates are in, "
            "such as EPSG:32741."
        )
    return crs


def crs_name(crs: CRS) -> str:
    """The shortest text that names a CRS again: `EPSG:code` where the register has it, else WKT.

    The register's own likeness counts two CRSs as alike that differ in their units, so that of both is compared.
    """
    authority = crs.to_authority(min_confidence=70)
    if authority:
        found = CRS.from_authority(*authority)
        lengths = [{axis.unit_conversion_factor for axis in one.axis_info} for one in (crs, found)]
        if lengths[0] == lengths[1]:
            return ":".join(authority)
    return crs.to_wkt()


def horizontal(crs: CRS) -> CRS:
    """The part of a compound CRS that says where on the ground; any other CRS itself."""
    return crs.sub_crs_list[0] if crs.is_compound else crs


def compound(crs: str, vertical_datum: str, unit: str) -> CRS:
    """A CRS with one of heights beside it.

    Parameters
    ----------
    crs : str
        Of the coordinates over the ground.
    vertical_datum : str
        What height 0 means: a code or name of the register, or any name.
    unit : str
        Of heights.

    Returns
    -------
    pyproj.CRS
        With the register's vertical CRS, or one of that name in metres. The CRS itself where it is compound already, where nothing is
        known of zero, or where heights are in a unit that the other would not say (GeoTIFF keeps none for a zero level outside of the
        register).
    """
    plain = parse_crs(crs)
    if plain.is_compound or not vertical_datum:
        return plain
    try:
        heights = CRS.from_user_input(vertical_datum)
    except CRSError:
        name = vertical_datum.replace('"', '""')
        heights = CRS.from_wkt(f'VERTCRS["{name}",VDATUM["{name}"],CS[vertical,1],AXIS["up",up],LENGTHUNIT["metre",1]]')
    metres = {"m": 1.0, "ft": 0.3048, "us-ft": 1200 / 3937}.get(unit, 0.0)
    if not heights.is_vertical or not math.isclose(heights.axis_info[0].unit_conversion_factor, metres):
        return plain
    return CompoundCRS(f"{plain.name} + {heights.name}", [plain, heights])


@lru_cache(maxsize=64)
def turn_between(source: str, target: str) -> Transformer:
    """From coordinates in one CRS, east first, to those in another."""
    return Transformer.from_crs(parse_crs(source), parse_crs(target), always_xy=True)


@lru_cache(maxsize=64)
def _measure(crs: str) -> tuple[Transformer, Geod]:
    """From a projected CRS to degrees, and the ellipsoid on which its lengths are true."""
    known = parse_crs(crs)
    geodetic = horizontal(known).geodetic_crs
    assert geodetic is not None
    return Transformer.from_crs(horizontal(known), geodetic, always_xy=True), geodetic.get_geod() or Geod(ellps="WGS84")


def ground_lengths(crs: str, x: npt.ArrayLike, y: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Metres on the ellipsoid to a unit of x and to one of y, at places `(places,)`; NaN where the CRS does not reach.

    Of a geographic CRS by the radii of curvature of its ellipsoid; of a projected one by geodesics over ten of its units, which
    holds for any projection (C. Karney, "Algorithms for geodesics", Journal of Geodesy 87, 2013).
    """
    x, y = np.broadcast_arrays(np.asarray(x, np.float64), np.asarray(y, np.float64))
    known = horizontal(parse_crs(crs))
    if known.is_geographic:
        geod = known.get_geod() or Geod(ellps="WGS84")
        radians = float(known.axis_info[0].unit_conversion_factor) if known.axis_info else math.pi / 180
        sine = np.sin(np.clip(y * radians, -math.pi / 2, math.pi / 2))
        bend = 1 - geod.es * sine**2
        along, around = geod.a * (1 - geod.es) / bend**1.5, geod.a / np.sqrt(bend)
        return np.maximum(around * np.sqrt(1 - sine**2), 1e-3) * radians, along * radians
    turn, geod = _measure(crs)
    step = 5.0
    found = []
    for dx, dy in ((step, 0.0), (0.0, step)):
        ends = [turn.transform(x + sign * dx, y + sign * dy) for sign in (-1, 1)]
        (x0, y0), (x1, y1) = ends
        _, _, lengths = geod.inv(x0, y0, x1, y1)
        lengths = np.asarray(lengths, np.float64) / (2 * step)
        found.append(np.where(np.isfinite(lengths) & (lengths > 0), lengths, np.nan))
    return found[0], found[1]


def unit_length(crs: str) -> float:
    """Length in metres of the unit of a projected CRS, as its axes say it."""
    known = horizontal(parse_crs(crs))
    return float(known.axis_info[0].unit_conversion_factor) if known.axis_info else 1.0


@lru_cache(maxsize=4096)
def metres_per_unit(crs: str, x: float, y: float) -> tuple[float, float]:
    """Metres on the ground to a unit of x and of y, at a place.

    In a projected CRS its unit's own length, where that is true to 0.1 %, as it is in the middle of a survey's or a nation's
    zone; elsewhere (Mercator's far from the equator, the rim of a zone) what the ellipsoid says. Beyond where a CRS reaches its
    unit's own length.
    """
    across, up = (float(length) for length in ground_lengths(crs, x, y))
    if parse_crs(crs).is_geographic:
        return across, up
    unit = unit_length(crs)
    if not (math.isfinite(across) and math.isfinite(up)) or max(abs(across / unit - 1), abs(up / unit - 1)) <= _TRUE:
        return unit, unit
    return across, up


@dataclass(frozen=True)
class Ground:
    """How large cells are on the ground, row by row. x: where across the rows that is measured, the same for every window of a
    surface. unit: length of the CRS's unit where that is true to 0.1 % all over, else None. span: of columns, in the CRS's unit,
    over which that holds for a row to 0.1 % where it does not for all of it, counted from `west`; else 0. See `along_columns`."""

    crs: str
    x: float
    unit: float | None
    span: float = 0.0
    west: float = 0.0

    def columns(self, grid: Grid) -> list[tuple[int, int, Ground]]:
        """First column and column after the last of a grid's columns over which rows are alike, and their ground."""
        if not self.span:
            return [(0, grid.cols, self)]
        numbers = np.floor((grid.x_of(np.arange(grid.cols)) - self.west) / self.span).astype(np.int64)
        starts = [0, *(np.flatnonzero(np.diff(numbers)) + 1).tolist(), grid.cols]
        return [
            (a, b, Ground(self.crs, self.west + (float(numbers[a]) + 0.5) * self.span, None))
            for a, b in zip(starts, starts[1:], strict=False)
        ]

    def sizes(self, grid: Grid) -> tuple[FloatArray, FloatArray]:
        """Width and height in metres of the cells of each row of a grid `(rows,)`."""
        if self.unit is not None:
            return np.full(grid.rows, grid.cell_width * self.unit), np.full(grid.rows, grid.cell_height * self.unit)
        across, up = ground_lengths(self.crs, self.x, grid.y_of(np.arange(grid.rows)))
        known = np.isfinite(across) & np.isfinite(up)
        if not known.any():
            return Ground(self.crs, self.x, unit_length(self.crs)).sizes(grid)
        if not known.all():  # rows beyond where the CRS reaches: as those at its rim
            every = np.arange(grid.rows)
            across, up = (np.interp(every, every[known], lengths[known]) for lengths in (across, up))
        return across * grid.cell_width, up * grid.cell_height

    def bands(self, grid: Grid) -> list[tuple[int, int, float, float]]:
        """First row, row after the last, width and height of cells, of rows whose cells are alike to 0.1 %. A row's sizes do not
        depend on the rows that it is asked with."""
        wide, high = self.sizes(grid)
        if self.unit is not None:
            return [(0, grid.rows, float(wide[0]), float(high[0]))]
        coarse = np.round(np.log(np.column_stack([wide, high])) / _TRUE)
        starts = [0, *(np.flatnonzero((np.diff(coarse, axis=0) != 0).any(1)) + 1).tolist(), grid.rows]
        rounded = np.exp(coarse * _TRUE)
        return [(a, b, float(rounded[a, 0]), float(rounded[a, 1])) for a, b in zip(starts, starts[1:], strict=False)]


@dataclass(frozen=True)
class Grid:
    """A north-up lattice of cells.

    `west`, `north`: outer corner of cell (0, 0). `cell_width`, `cell_height`: positive, in CRS units.
    """

    crs: str
    west: float
    north: float
    cell_width: float
    cell_height: float
    rows: int
    cols: int

    def __post_init__(self) -> None:
        numbers = (self.west, self.north, self.cell_width, self.cell_height)
        if not all(math.isfinite(number) for number in numbers):
            raise GridError("A grid needs finite corner coordinates and cell sizes.")
        if max(map(abs, numbers)) > _FURTHEST:
            raise GridError(f"The grid's corner or cell size is {max(map(abs, numbers)):.3g}, which no CRS reaches.")
        if self.cell_width <= 0 or self.cell_height <= 0:
            raise GridError(f"The cell size must be greater than 0, not {self.cell_width:g}.")
        if self.rows < 1 or self.cols < 1:
            raise GridError(f"A grid of {self.rows} x {self.cols} cells is empty.")
        if self.rows * self.cols > MAX_CELLS:
            raise GridError(
                f"{self.cols:,} x {self.rows:,} cells are {self.rows * self.cols:,.0f} in all, more than the "
                f"{MAX_CELLS:,} that can be held. Choose a larger cell size or a smaller area.".replace(",", "\u202f")
            )

    # -- making -----------------------------------------------------------------------------------

    @classmethod
    def covering(cls, crs: str, bounds: Bounds, cell_size: float, origin: tuple[float, float] = (0.0, 0.0)) -> Grid:
        """The smallest grid of square cells over `bounds` whose cell corners are in step with `origin`."""
        if not (math.isfinite(cell_size) and cell_size > 0):
            raise GridError(f"The cell size must be greater than 0, not {cell_size:g}.")
        if not (all(map(math.isfinite, bounds)) and bounds.west <= bounds.east and bounds.south <= bounds.north):
            raise GridError(f"The area {tuple(bounds)} is not a rectangle of west, south, east, north.")
        if max(map(abs, (*bounds, *origin))) > _FURTHEST or cell_size * _FURTHEST < 1.0:
            raise GridError(f"The area {tuple(bounds)} in cells of {cell_size:g} is larger than any CRS reaches.")
        nudge = 1e-9  # a bound that lies on a corner but for rounding takes no further cell
        first_col = math.floor((bounds.west - origin[0]) / cell_size + nudge)
        last_col = math.ceil((bounds.east - origin[0]) / cell_size - nudge)
        first_row = math.ceil((bounds.north - origin[1]) / cell_size - nudge)
        last_row = math.floor((bounds.south - origin[1]) / cell_size + nudge)
        return cls(
            crs=crs,
            west=origin[0] + first_col * cell_size,
            north=origin[1] + first_row * cell_size,
            cell_width=cell_size,
            cell_height=cell_size,
            rows=max(first_row - last_row, 1),
            cols=max(last_col - first_col, 1),
        )

    @classmethod
    def from_transform(cls, crs: str, transform: Affine, rows: int, cols: int) -> Grid:
        """A grid from a raster's affine transform. Raises GridError where that is rotated or flipped."""
        if transform.b or transform.d or transform.a <= 0 or transform.e >= 0:
            raise GridError("The raster is rotated, sheared or upside down; it must be resampled to a north-up grid.")
        return cls(crs, transform.c, transform.f, transform.a, -transform.e, rows, cols)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Grid:
        """The inverse of `to_dict`."""
        return cls(**data)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            "crs": self.crs,
            "west": self.west,
            "north": self.north,
            "cell_width": self.cell_width,
            "cell_height": self.cell_height,
            "rows": self.rows,
            "cols": self.cols,
        }

    # -- facts --------------------------------------------------------------------------------------

    @property
    def transform(self) -> Affine:
        """Affine from (col, row) of cell corners to (x, y)."""
        return Affine(self.cell_width, 0.0, self.west, 0.0, -self.cell_height, self.north)

    @property
    def bounds(self) -> Bounds:
        """Outer edges of the outermost cells."""
        return Bounds(
            self.west,
            self.north - self.rows * self.cell_height,
            self.west + self.cols * self.cell_width,
            self.north,
        )

    @property
    def cell_count(self) -> int:
        """Number of cells."""
        return self.rows * self.cols

    @property
    def whole(self) -> Window:
        """The window of all cells."""
        return Window(0, 0, self.rows, self.cols)

    @property
    def is_geographic(self) -> bool:
        """Whether coordinates are degrees."""
        return bool(parse_crs(self.crs).is_geographic)

    @property
    def middle(self) -> tuple[float, float]:
        """x and y of the grid's middle."""
        return self.bounds.middle

    def metres_per_unit(self) -> tuple[float, float]:
        """Metres on the ground to a unit of x and of y, at the grid's middle."""
        return metres_per_unit(self.crs, *self.middle)

    def metres_per_cell(self) -> tuple[float, float]:
        """Ground width and height of a cell at the grid's middle, in metres, as `metres_per_unit` has it."""
        across, up = self.metres_per_unit()
        return self.cell_width * across, self.cell_height * up

    def ground(self) -> Ground:
        """How large the cells of each row are on the ground."""
        return ground_of(self.crs, self.bounds)

    def smallest_cell(self) -> float:
        """The shorter side of the smallest cell on the ground, in metres."""
        ground = self.ground()
        rows = [self.part(Window(row, 0, 1, 1)) for row in (0, self.rows // 2, self.rows - 1)]
        measured = [one[2] for one in ground.columns(self)] if ground.span else [ground]
        return min(float(length[0]) for row in rows for one in measured for length in one.sizes(row))

    # -- cells and coordinates ------------------------------------------------------------------------

    def x_of(self, cols: npt.ArrayLike) -> FloatArray:
        """x of the centres of columns (fractional columns allowed)."""
        return self.west + (np.asarray(cols, np.float64) + 0.5) * self.cell_width

    def y_of(self, rows: npt.ArrayLike) -> FloatArray:
        """y of the centres of rows (fractional rows allowed)."""
        return self.north - (np.asarray(rows, np.float64) + 0.5) * self.cell_height

    def col_of(self, x: npt.ArrayLike) -> FloatArray:
        """Fractional column of x; a whole number at a cell's centre."""
        return (np.asarray(x, np.float64) - self.west) / self.cell_width - 0.5

    def row_of(self, y: npt.ArrayLike) -> FloatArray:
        """Fractional row of y; a whole number at a cell's centre."""
        return (self.north - np.asarray(y, np.float64)) / self.cell_height - 0.5

    def centres(self, window: Window) -> tuple[FloatArray, FloatArray]:
        """x of each column `(cols,)` and y of each row `(rows,)` of a window."""
        xs = self.x_of(np.arange(window.col, window.col + window.cols))
        ys = self.y_of(np.arange(window.row, window.row + window.rows))
        return xs, ys

    def window_bounds(self, window: Window) -> Bounds:
        """Outer edges of a window."""
        return Bounds(
            self.west + window.col * self.cell_width,
            self.north - (window.row + window.rows) * self.cell_height,
            self.west + (window.col + window.cols) * self.cell_width,
            self.north - window.row * self.cell_height,
        )

    def window_over(self, bounds: Bounds, halo: int = 0) -> Window:
        """The window of all cells that `bounds` touches, grown by `halo`, not clipped to the grid."""
        left = math.floor((bounds.west - self.west) / self.cell_width)
        right = math.ceil((bounds.east - self.west) / self.cell_width)
        top = math.floor((self.north - bounds.north) / self.cell_height)
        bottom = math.ceil((self.north - bounds.south) / self.cell_height)
        return Window(top, left, max(bottom - top, 1), max(right - left, 1)).grown(halo)

    # -- other grids ----------------------------------------------------------------------------------

    def part(self, window: Window) -> Grid:
        """The grid of a window's cells."""
        bounds = self.window_bounds(window)
        return Grid(self.crs, bounds.west, bounds.north, self.cell_width, self.cell_height, window.rows, window.cols)

    def finer(self, times: int) -> Grid:
        """The grid of which so many times as many cells, along each side, fill the same area."""
        return Grid(
            self.crs,
            self.west,
            self.north,
            self.cell_width / times,
            self.cell_height / times,
            self.rows * times,
            self.cols * times,
        )

    def with_cells(self, metres: float) -> Grid:
        """The same area in cells of about so many metres, from the same north-west corner."""
        times = max(metres / max(self.metres_per_cell()), 1e-6)
        width, height = self.cell_width * times, self.cell_height * times
        rows, cols = (max(math.ceil(size / times), 1) for size in (self.rows, self.cols))
        return Grid(self.crs, self.west, self.north, width, height, rows, cols)

    def at_level(self, level: int) -> Grid:
        """The parent grid whose cells hold 2**level x 2**level of these, from the same north-west corner."""
        if level < 0:
            raise GridError(f"Level {level} does not exist; level 0 is the surface's own cells.")
        step = 2**level
        return Grid(
            self.crs,
            self.west,
            self.north,
            self.cell_width * step,
            self.cell_height * step,
            -(-self.rows // step),
            -(-self.cols // step),
        )

    def blocks(self, size: int) -> Iterator[Window]:
        """Windows of at most `size` x `size` cells that cover the grid, row by row."""
        for row in range(0, self.rows, size):
            for col in range(0, self.cols, size):
                yield Window(row, col, min(size, self.rows - row), min(size, self.cols - col))

    def phase(self, other: Grid) -> tuple[float, float]:
        """How far the other grid's cells lie off these, in cells: (columns, rows), each from -0.5 to 0.5."""
        cols = (other.west - self.west) / self.cell_width
        rows = (self.north - other.north) / self.cell_height
        return cols - round(cols), rows - round(rows)

    def is_in_step_with(self, other: Grid) -> bool:
        """Whether both have the same CRS, the same cell size and cells that coincide."""
        if parse_crs(self.crs) != parse_crs(other.crs):
            return False
        if not (
            math.isclose(self.cell_width, other.cell_width, rel_tol=1e-9)
            and math.isclose(self.cell_height, other.cell_height, rel_tol=1e-9)
        ):
            return False
        return max(map(abs, self.phase(other))) < _PHASE_TOLERANCE * max(self.rows, self.cols, 1)

    def offset_of(self, other: Grid) -> tuple[int, int]:
        """Row and column here of the other grid's cell (0, 0). The grids must be in step."""
        return (
            round((self.north - other.north) / self.cell_height),
            round((other.west - self.west) / self.cell_width),
        )


@lru_cache(maxsize=256)
def ground_of(crs: str, bounds: Bounds) -> Ground:
    """How a CRS lies on the ground within a rectangle."""
    x = (bounds.west + bounds.east) / 2
    if parse_crs(crs).is_geographic:
        return Ground(crs, x, None)
    unit = unit_length(crs)
    xs, ys = np.meshgrid(np.linspace(bounds.west, bounds.east, 3), np.linspace(bounds.south, bounds.north, 5))
    lengths = np.array(ground_lengths(crs, xs.ravel(), ys.ravel())) / unit
    true = bool((np.abs(lengths[np.isfinite(lengths)] - 1) <= _TRUE).all())
    if true:
        return Ground(crs, x, unit)
    across = np.log(lengths.reshape(2, 5, 3))
    change = np.abs(np.diff(across, axis=2))
    most = float(change[np.isfinite(change)].max(initial=0.0))  # over half of the width
    if most <= _TRUE / 2:
        return Ground(crs, x, None)
    bands = min(math.ceil(4 * most / _TRUE), _MOST_BANDS)
    return Ground(crs, x, None, (bounds.east - bounds.west) / bands, bounds.west)


def along_columns(
    heights: npt.NDArray[Any], grid: Grid, halo: int, ground: Ground | None, work: Callable[..., npt.NDArray[Any]]
) -> npt.NDArray[Any]:
    """Let work that takes one size of cell for a whole window be done on bands of columns, where columns differ in size.

    Parameters
    ----------
    heights : ndarray, shape (rows + 2 halo, cols + 2 halo)
        A window with `halo` cells on each side.
    grid : Grid
        Of the window with its halo.
    halo : int
        How far the work looks around a cell.
    ground : Ground, optional
        That of the grid where not given.
    work : callable
        Called with heights, grid and ground of a band with its halo; gives its cells without it.

    Returns
    -------
    ndarray, shape (rows, cols)
        The bands side by side; all of it in one go where columns are alike.
    """
    ground = ground or grid.ground()
    if not ground.span:
        return work(heights, grid, ground)
    inner = grid.part(Window(0, halo, grid.rows, max(grid.cols - 2 * halo, 1)))
    parts = [
        work(
            np.ascontiguousarray(heights[:, first : after + 2 * halo]),
            grid.part(Window(0, first, grid.rows, after - first + 2 * halo)),
            own,
        )
        for first, after, own in ground.columns(inner)
    ]
    return np.concatenate(parts, axis=-1)
