"""The frame: the project's one answer to CRS, cell size, origin, area, zero level and height unit."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from pyproj import Transformer

from yama.terrain.errors import GridError, InputError
from yama.terrain.grid import Bounds, Grid, metres_per_unit, parse_crs, unit_length
from yama.terrain.points import Points, strays


@dataclass(frozen=True)
class Frame:
    """The target grid of a project with the vertical datum and unit of its heights."""

    grid: Grid
    unit: str = "m"
    vertical_datum: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {"grid": self.grid.to_dict(), "unit": self.unit, "vertical_datum": self.vertical_datum}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Frame:
        """The inverse of `to_dict`. Raises InputError where something is missing."""
        try:
            return cls(Grid.from_dict(data["grid"]), data.get("unit", "m"), data.get("vertical_datum", ""))
        except (KeyError, TypeError) as error:
            raise InputError(f"This is not a frame: {error}. It needs grid, unit and vertical_datum.") from error

    @property
    def _unit(self) -> float:
        """Metres to a unit of the CRS, see `with_cell_size`."""
        crs = self.grid.crs
        return _length_of_unit(crs, *self.grid.middle) if parse_crs(crs).is_geographic else unit_length(crs)

    @property
    def cell_size(self) -> float:
        """Side of a cell in metres, as `with_cell_size` takes it."""
        return self.grid.cell_width * self._unit

    def with_cell_size(self, metres: float) -> Frame:
        """The same area with other cells, in step with the frame's own corner. metres: their side, by the CRS's own unit of length,
        which a projection may stretch; in degrees that on the ground at the frame's middle."""
        grid = self.grid
        size = metres / self._unit
        if abs(size / grid.cell_width - 1) < 1e-9:
            return self
        return Frame(
            Grid.covering(grid.crs, grid.bounds, size, (grid.west, grid.north)), self.unit, self.vertical_datum
        )


_TRUE_ENOUGH = 0.005
"""Share by which metres of a proposed CRS may differ from those of the ground; in a zone of UTM they do by a fifth of that."""


def utm_zone(longitude: float, latitude: float) -> str:
    """The WGS 84 / UTM zone of a position in degrees, as an EPSG code.

    Raises GridError poleward of 84 N and 80 S, where UTM is not defined.
    """
    if not -80 <= latitude <= 84:
        raise GridError(f"UTM does not reach latitude {latitude:.1f}; choose a polar CRS.")
    zone = int((longitude + 180) // 6) % 60 + 1
    return f"EPSG:{(32600 if latitude >= 0 else 32700) + zone}"


@dataclass(frozen=True)
class Extent:
    """Where a source lies: bounds in its CRS. spacing: mean distance of its points, cell: of its cells, both in metres and
    0 where it has none. boundary: whether it is a polygon that says which area is meant."""

    name: str
    crs: str
    bounds: Bounds
    spacing: float = 0.0
    cell: float = 0.0
    boundary: bool = False

    def __post_init__(self) -> None:
        if not all(math.isfinite(value) for value in self.bounds):
            raise InputError(f"{self.name} has no extent.")


@dataclass(frozen=True)
class Proposal:
    """A frame with the reasons for its CRS, its area and its cell size, in that order."""

    frame: Frame
    reasons: tuple[str, str, str]


def propose(extents: Sequence[Extent], cell_size: float | None = None, crs: str = "") -> Proposal:
    """A frame proposed for sources, with a reason for each part.

    Parameters
    ----------
    extents : sequence of Extent
        Of the sources. Where some are boundaries, these alone say which area and CRS are meant.
    cell_size : float, optional
        In units of the CRS, where it is given already. Otherwise half the spacing of the closest points, else the cells of the coarsest
        surface, rounded to 1, 2 or 5.
    crs : str
        Where it is given already. Otherwise the one CRS in metres that they share, else the UTM zone of their middle.

    Raises
    ------
    InputError
        Where there are no sources.
    """
    if not extents:
        raise InputError("A frame is proposed from files: add at least one that says where it lies.")
    meant = [extent for extent in extents if extent.boundary] or list(extents)
    crs_given = bool(crs)
    crs, why_crs = (crs, "As given.") if crs else _common_crs(meant)
    boxes = [
        Transformer.from_crs(parse_crs(extent.crs), parse_crs(crs), always_xy=True).transform_bounds(*extent.bounds)
        for extent in meant
    ]
    if not all(math.isfinite(value) for box in boxes for value in box):
        raise InputError(f"Not all of the sources can be expressed in {crs}. Choose a CRS by hand.")
    west, south = min(box[0] for box in boxes), min(box[1] for box in boxes)
    east, north = max(box[2] for box in boxes), max(box[3] for box in boxes)
    size, why_size = _cell_size(extents, max(east - west, north - south))
    if cell_size:
        size, why_size = cell_size, "As given."
    elif crs_given:
        size /= _length_of_unit(crs, (west + east) / 2, (south + north) / 2)
    # tables of points end at their last point, and the ground beside it is wanted too
    margin = 10 * size
    area = Bounds(west - margin, south - margin, east + margin, north + margin)
    named = ", ".join(extent.name for extent in meant[:3]) + (" and others" if len(meant) > 3 else "")
    why_area = (
        f"The boundary in {named}, ten cells wider." if meant[0].boundary else f"All of {named}, ten cells wider."
    )
    return Proposal(Frame(Grid.covering(crs, area, size)), (why_crs, why_area, why_size))


def _length_of_unit(crs: str, x: float, y: float) -> float:
    """Metres to a unit of a CRS at a place."""
    across, up = metres_per_unit(crs, x, y)
    return float((across * up) ** 0.5)


def _common_crs(extents: Sequence[Extent]) -> tuple[str, str]:
    known = {extent.crs for extent in extents}
    stretched = ""
    if len(known) == 1:
        (only,) = known
        crs = parse_crs(only)
        if crs.is_projected and crs.axis_info and abs(crs.axis_info[0].unit_conversion_factor - 1) < 1e-9:
            lengths = [length for extent in extents for length in metres_per_unit(only, *extent.bounds.middle)]
            if max(abs(length - 1) for length in lengths) <= _TRUE_ENOUGH:
                return only, f"The sources are in {crs.name} already."
            stretched = (
                f" The metres of {crs.name}, in which the sources are, are {lengths[0]:.3f} m on the ground there."
            )
    middles = []
    for extent in extents:
        turn = Transformer.from_crs(parse_crs(extent.crs), parse_crs("EPSG:4326"), always_xy=True)
        west, south, east, north = turn.transform_bounds(*extent.bounds)
        middles.append(((west + east) / 2, (south + north) / 2))
    longitude = sum(lon for lon, _ in middles) / len(middles)
    latitude = sum(lat for _, lat in middles) / len(middles)
    if not (math.isfinite(longitude) and math.isfinite(latitude)):
        raise InputError("The sources do not lie anywhere on the earth. Check the CRS they were given.")
    name = utm_zone(longitude, latitude)
    return (
        name,
        f"The UTM zone of its middle, {abs(latitude):.2f}° {'S' if latitude < 0 else 'N'} {abs(longitude):.2f}° {'W' if longitude < 0 else 'E'}.{stretched}",
    )


def _cell_size(extents: Sequence[Extent], side: float) -> tuple[float, str]:
    spacings = [extent.spacing for extent in extents if extent.spacing > 0]
    if spacings:
        closest = min(spacings)
        return _round_cell(closest / 2), f"About half the points' mean spacing of {closest:.3g} m."
    cells = [extent.cell for extent in extents if extent.cell > 0]
    if cells:
        coarsest = max(cells)
        return _round_cell(coarsest), f"About the cell of the coarsest surface, {coarsest:.3g} m."
    return _round_cell(
        side / 4000
    ), "Some four thousand cells along the longer side, since nothing says how fine it is."


def extent_of_points(points: Points, name: str = "points") -> Extent:
    """Extent and mean spacing of points, but for those far from the rest: one wrong coordinate would stretch both."""
    points = points.kept(~strays(points)[0])
    bounds = points.bounds
    turn = points
    if parse_crs(points.crs).is_geographic:
        turn = points.in_crs(utm_zone((bounds.west + bounds.east) / 2, (bounds.south + bounds.north) / 2))
    box = turn.bounds
    spacing = (max((box.east - box.west) * (box.north - box.south), 1e-6) / max(len(points), 1)) ** 0.5
    return Extent(name, points.crs, bounds, spacing=spacing)


def _round_cell(size: float) -> float:
    for exponent in range(-4, 7):
        for digit in (1, 2, 5):
            if digit * 10.0**exponent >= size * 0.75:
                return float(digit * 10.0**exponent)
    return 1e6
