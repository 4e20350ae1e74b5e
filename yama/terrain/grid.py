"""Grid: the one place that knows where cells lie.

Row 0 is north, column 0 is west, and a cell's height belongs to its centre. Coordinates are always
`x, y` (east, north) in float64. Grids are north-up; a rotated raster enters through a resampling.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from affine import Affine
from pyproj import CRS
from pyproj.crs import CompoundCRS
from pyproj.exceptions import CRSError

from yama.terrain.errors import GridError

FloatArray = npt.NDArray[np.float64]

MAX_CELLS = 20_000_000_000
"""The largest grid accepted anywhere: 20 thousand million cells (80 GB of heights)."""

_FURTHEST = 1e9
"""No coordinate in any unit in use is larger."""

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

    def intersection(self, other: Bounds) -> Bounds | None:
        """The rectangle both share, or None."""
        west, south = max(self.west, other.west), max(self.south, other.south)
        east, north = min(self.east, other.east), min(self.north, other.north)
        return Bounds(west, south, east, north) if west < east and south < north else None


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
    """A CRS with one of heights beside it: the register's where `vertical_datum` is a code or name of it, else one of that name in
    metres. The CRS itself where it is compound already, where nothing is known of zero, or where heights are in a unit that the
    other would not say (GeoTIFF keeps none for a zero level outside of the register)."""
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


def metres_per_unit(crs: str, y: float) -> tuple[float, float]:
    """Metres on the ground to a unit of x and of y, at that y.

    In a geographic CRS a degree of latitude is taken as 111 320 m and a degree of longitude as that
    times the cosine of the latitude: good to 0.6 %, for slopes and advice, not for measuring.
    """
    known = parse_crs(crs)
    if known.is_geographic:
        return 111_320.0 * max(math.cos(math.radians(y)), 1e-6), 111_320.0
    factor = float(known.axis_info[0].unit_conversion_factor) if known.axis_info else 1.0
    return factor, factor


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

    def metres_per_cell(self) -> tuple[float, float]:
        """Ground width and height of a cell at the grid's middle, in metres, as `metres_per_unit` has it."""
        across, up = metres_per_unit(self.crs, (self.bounds.south + self.bounds.north) / 2)
        return self.cell_width * across, self.cell_height * up

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
