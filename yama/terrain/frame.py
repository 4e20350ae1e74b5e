"""The frame: the project's one answer to CRS, cell size, origin, area, zero level and height unit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yama.terrain.errors import GridError, InputError
from yama.terrain.grid import Bounds, Grid, parse_crs
from yama.terrain.points import Points


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

    def with_cell_size(self, cell_size: float) -> Frame:
        """The same area with other cells, in step with the frame's own corner."""
        grid = self.grid
        if cell_size == grid.cell_width:
            return self
        return Frame(
            Grid.covering(grid.crs, grid.bounds, cell_size, (grid.west, grid.north)), self.unit, self.vertical_datum
        )


def utm_zone(longitude: float, latitude: float) -> str:
    """The WGS 84 / UTM zone of a position in degrees, as an EPSG code.

    Raises GridError poleward of 84 N and 80 S, where UTM is not defined.
    """
    if not -80 <= latitude <= 84:
        raise GridError(f"UTM does not reach latitude {latitude:.1f}; choose a polar CRS.")
    zone = int((longitude + 180) // 6) % 60 + 1
    return f"EPSG:{(32600 if latitude >= 0 else 32700) + zone}"


def propose(points: Points, cell_size: float | None = None) -> Frame:
    """A frame for points: their own CRS where it is in metres, else the UTM zone of their middle; cells of
    about half the mean spacing, rounded to 1, 2 or 5; a margin of ten cells."""
    crs = parse_crs(points.crs)
    if crs.is_geographic:
        bounds = points.bounds
        name = utm_zone((bounds.west + bounds.east) / 2, (bounds.south + bounds.north) / 2)
        points = points.in_crs(name)
    bounds = points.bounds
    width, height = bounds.east - bounds.west, bounds.north - bounds.south
    if cell_size is None:
        spacing = (max(width * height, 1e-6) / max(len(points), 1)) ** 0.5
        cell_size = _round_cell(spacing / 2)
    margin = 10 * cell_size
    area = Bounds(bounds.west - margin, bounds.south - margin, bounds.east + margin, bounds.north + margin)
    return Frame(Grid.covering(points.crs, area, cell_size))


def _round_cell(size: float) -> float:
    for exponent in range(-4, 7):
        for digit in (1, 2, 5):
            if digit * 10.0**exponent >= size * 0.75:
                return float(digit * 10.0**exponent)
    return 1e6
