"""What hollows are: water, an error in the data, or ground behind a bank that water passes through."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.catchments import polygons
from yama.terrain.drain.hollows import Hollows
from yama.terrain.drain.working_off import ways_out
from yama.terrain.fit.clip import inside
from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of

Kind = Literal["water", "error", "culvert", "open"]

TITLES: dict[Kind, str] = {
    "water": "water",
    "error": "error in the data",
    "culvert": "behind a bank",
    "open": "not known",
}

_DEEP = 3.0  # metres that an error is deep at least
_FEW = 9  # cells that a deep hollow has at most to be an error whatever its shape
_STEEP = 1.0  # depth over radius from which on walls are steeper than ground stands
_SMALL = 100  # cells that such a hollow has at most
_BANK = 60.0  # metres that a bank is wide at most
_LESS = 0.1  # of what a hollow holds that the way through its bank may take
_LEVEL = 0.1  # metres within which a floor is level
_FLOOR = 0.5  # of a hollow's cells that are so where it is water
_POND = 1000.0  # square metres of it at least


@dataclass(frozen=True)
class Hollow:
    """A hollow that is within no other.

    Parameters
    ----------
    kind : {"water", "error", "culvert", "open"}
        What it probably is; open where nothing tells.
    why : str
        The evidence, a sentence.
    x, y : float
        Its lowest place, in the grid's CRS.
    depth, level : float
        From there to where it runs over, and that height, in metres.
    cells : int
    area, volume : float
        What it covers and holds when full, in square and cubic metres.
    inner : int
        Lowest places in it, itself included.
    spill : tuple of float
        Where it runs over.
    way, cut : float
        Metres of the way on which least must be cut to let it out, and the cubic metres; NaN where there is none.
    shape : Polygon or MultiPolygon
        What it covers when full.
    """

    kind: Kind
    why: str
    x: float
    y: float
    depth: float
    level: float
    cells: int
    area: float
    volume: float
    inner: int
    spill: tuple[float, float]
    way: float
    cut: float
    shape: shapely.Geometry


@kernel
def _shown(heights, basin, level, number, floor, first, last, shown, flat):
    """For cells under water of numbered hollows their number; and how many of each are level with its floor."""
    cols = heights.shape[1]
    for r in range(first, last):
        for c in range(cols):
            at = basin[r, c]
            shown[r, c] = 0
            if at != 0 and number[at] != 0 and heights[r, c] < level[at]:
                shown[r, c] = number[at]
                if heights[r, c] <= floor[at]:
                    flat[number[at]] += 1


def listed(
    found: Hollows,
    least_depth: float = 0.0,
    count: int = 500,
    waters: Sequence[tuple[shapely.Polygon, str]] = (),
    progress: Progress = ignore_progress,
) -> list[Hollow]:
    """The hollows that are within no other, what holds most first, with what they probably are.

    Parameters
    ----------
    found : Hollows
    least_depth : float
        In metres; what is less deep is not told.
    count : int
        How many at most.
    waters : sequence of (Polygon, str)
        Lakes with their names, in the CRS of the hollows.
    """
    outer = found.outermost
    outer = outer[found.depth[outer] >= least_depth]
    chosen = outer[np.lexsort((found.low_at[outer], -found.volume[outer]))][:count]
    if not len(chosen):
        return []
    starts = found.low_at[chosen]
    way, cut = ways_out(found.heights, found.grid, starts, True, part_of(progress, 0.0, 0.6))
    told = told_of(found, chosen, waters, way, cut)
    progress(1.0)
    return told


def told_of(
    found: Hollows,
    chosen: npt.NDArray[np.int64],
    waters: Sequence[tuple[shapely.Polygon, str]],
    way: FloatArray,
    cut: FloatArray,
) -> list[Hollow]:
    """What is known of hollows that are within no other.

    chosen: their nodes. waters: as `listed` has them. way, cut: of each, as `ways_out` has them.
    """
    top = found.top
    number = np.zeros(len(found.parent), np.int32)
    number[chosen] = np.arange(1, len(chosen) + 1)
    basins = found.basins
    inner = np.bincount(number[top[1 : basins + 1]], minlength=len(chosen) + 1)
    by_basin = number[top[: basins + 1]]
    by_basin[0] = 0
    floor = (found.low[top[: basins + 1]] + _LEVEL).astype(np.float32)
    shown, flat = np.empty(found.basin.shape, np.int32), np.zeros(len(chosen) + 1, np.int64)
    _shown(found.heights, found.basin, found.levels(), by_basin, floor, 0, len(shown), shown, flat)
    shapes = polygons(shown, found.grid)
    names = [""] * len(chosen)
    for polygon, name in waters:
        within = inside([polygon], found.grid) > 0
        covered = np.bincount(shown[within], minlength=len(chosen) + 1)
        for most in np.flatnonzero(2 * covered[1:] >= found.cells[chosen]).tolist():
            names[most] = name or "A lake"
    told = []
    for at, node in enumerate(chosen.tolist()):
        kind, why = _kind(found, node, names[at], flat[at + 1], way[at], cut[at])
        r, c = divmod(int(found.low_at[node]), found.grid.cols)
        i, j = divmod(int(found.spill_at[node]), found.grid.cols)
        told.append(
            Hollow(
                kind,
                why,
                float(found.grid.x_of(c)),
                float(found.grid.y_of(r)),
                float(found.depth[node]),
                float(found.spill[node]),
                int(found.cells[node]),
                float(found.cells[node]) * found.cell_area,
                float(found.volume[node]),
                int(inner[at + 1]),
                (float(found.grid.x_of(j)), float(found.grid.y_of(i))),
                float(way[at]),
                float(cut[at]),
                shapes[at + 1],
            )
        )
    return told


def _kind(found: Hollows, node: int, name: str, flat: int, way: float, cut: float) -> tuple[Kind, str]:
    depth, cells = float(found.depth[node]), int(found.cells[node])
    area = cells * found.cell_area
    many = "one cell" if cells == 1 else f"{cells} cells"
    if name:
        return "water", f"{name} covers most of it."
    if depth >= _DEEP and (cells <= _FEW or (cells <= _SMALL and depth > _STEEP * math.sqrt(area / math.pi))):
        return "error", f"{depth:.1f} m deep over {many}: ground does not stand so steeply."
    if area >= _POND and flat >= _FLOOR * cells:
        return "water", f"{100 * flat / cells:.0f} % of it is level: the surface of a pond."
    if way <= _BANK and cut <= _LESS * float(found.volume[node]):
        return (
            "culvert",
            f"A bank stands across: a cut of {way:.0f} m lets the water out, as a culvert or a bridge does.",
        )
    return "open", ""
