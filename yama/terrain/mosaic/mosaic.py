"""Mosaic: several surfaces on one grid as one, live."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from pyproj import Transformer

from yama.terrain.cog import Encoding
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import fitted
from yama.terrain.fit.shift import Shifted
from yama.terrain.grid import Bounds, FloatArray, Grid, Window, parse_crs
from yama.terrain.mosaic.levelling import Plane
from yama.terrain.mosaic.rules import RULES, Rule, RuleName, Sources, continued, edge_weights
from yama.terrain.mosaic.seams import Seams
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Category, Heights, Surface

_MOST_IN_A_BYTE = 254
MOST = 1_000
"""Surfaces a mosaic is made of at most."""


def bounds_in(surface: Surface, grid: Grid) -> Bounds | None:
    """The rectangle of `grid` that holds a surface, in its CRS; None where they do not meet."""
    own = surface.grid
    if parse_crs(own.crs) == parse_crs(grid.crs):
        return own.bounds.intersection(grid.bounds)
    transformer = Transformer.from_crs(parse_crs(own.crs), parse_crs(grid.crs), always_xy=True)
    found = Bounds(*transformer.transform_bounds(*own.bounds, densify_pts=41))
    return found.intersection(grid.bounds) if all(map(math.isfinite, found)) else None


@dataclass(frozen=True)
class Placed:
    """A surface on the mosaic's grid. number: its place in what was given. cells: the window of its cells there.
    middle: of its own area, in the grid's CRS. plane: what is added to its heights."""

    number: int
    surface: Surface
    cells: Window
    middle: tuple[float, float]
    plane: Plane

    def meets(self, window: Window, level: int) -> bool:
        """Whether it may have a height in a window of a level."""
        step = 2**level
        top, left = self.cells.row // step - 1, self.cells.col // step - 1
        bottom = (self.cells.row + self.cells.rows) // step + 2
        right = (self.cells.col + self.cells.cols) // step + 2
        below = top < window.row + window.rows and bottom > window.row
        beside = left < window.col + window.cols and right > window.col
        return bool(below and beside)

    def read(self, window: Window, level: int) -> Heights:
        """Its heights with its plane added."""
        heights = self.surface.read(window, level)
        if self.plane.is_zero:
            return heights
        grid = self.surface.grid.at_level(level)
        return (heights + self.plane.at(*grid.centres(window))).astype(np.float32)


def sheet(tiles: Sequence[Surface]) -> Surface:
    """Tiles of one lattice as one surface, so that nothing is lost between them when it is fitted elsewhere. Where they
    overlap the first counts. Raises InputError where their CRS, cell size or places of cells differ."""
    if len(tiles) == 1:
        return tiles[0]
    first = tiles[0].grid
    if not all(first.is_in_step_with(one.grid) for one in tiles):
        raise InputError("These tiles do not lie on one lattice of cells.")
    offsets = np.array([first.offset_of(one.grid) for one in tiles])
    ends = offsets + [(one.grid.rows, one.grid.cols) for one in tiles]
    top, left = (int(value) for value in offsets.min(axis=0))
    bottom, right = (int(value) for value in ends.max(axis=0))
    grid = first.part(Window(top, left, bottom - top, right - left))
    placed = [
        Placed(
            i, Shifted(one, grid), Window(*grid.offset_of(one.grid), one.grid.rows, one.grid.cols), (0.0, 0.0), Plane()
        )
        for i, one in enumerate(tiles)
    ]
    made = Sheet(placed, grid, "first", 0.0, None, tiles[0].unit, tiles[0].vertical_datum)
    made.name = tiles[0].name
    return made


def place(surfaces: Sequence[Surface], grid: Grid, planes: Sequence[Plane] | None = None) -> list[Placed]:
    """The surfaces that meet a grid, fitted to it, in their order. Raises InputError where none does."""
    placed = []
    for number, surface in enumerate(surfaces):
        box = bounds_in(surface, grid)
        if box is None:
            continue
        cells = grid.window_over(box).clipped(grid.rows, grid.cols)
        middle = ((box.west + box.east) / 2, (box.south + box.north) / 2)
        plane = planes[number] if planes else Plane()
        in_step = surface.grid != grid and surface.grid.is_in_step_with(grid)
        there = Shifted(surface, grid, smooth=True) if in_step else fitted(surface, grid)
        placed.append(Placed(number, there, cells, middle, plane))
    if not placed:
        raise InputError("None of the surfaces lies within the frame. Choose others, or another frame.")
    return placed


class Mosaic(Surface):
    """Surfaces joined by a rule on one grid, empty where none has a height.

    feather: metres over which weights rise from a surface's own edge. seams: for the rule `seam`, which surface each part of
    an overlap belongs to. Levels are joined from the surfaces' levels. Raises InputError for more surfaces than `MOST`.
    """

    def __init__(
        self,
        placed: Sequence[Placed],
        grid: Grid,
        rule: RuleName,
        feather: float = 0.0,
        seams: Seams | None = None,
        unit: str = "m",
        vertical_datum: str = "",
    ) -> None:
        super().__init__(grid, unit, vertical_datum)
        if len(placed) > MOST:
            raise InputError(f"{len(placed)} surfaces are more than the {MOST} that are joined at once.")
        self.placed = list(placed)
        self._rule = RULES[rule]
        self._feather = feather
        self.seams = seams

    def made_of(self) -> tuple[Any, ...]:
        placed = [(one.number, one.surface.fingerprint, one.plane) for one in self.placed]
        return (self._rule.name, self._feather, placed, self.seams and self.seams.made_of)

    def prepare(self, progress: Progress = ignore_progress) -> None:
        for done, one in enumerate(self.placed):
            one.surface.prepare(lambda share, done=done: progress((done + share) / len(self.placed)))  # type: ignore[misc]

    @property
    def companions(self) -> Mapping[str, Surface]:
        """Which surface each cell came from, counted from 1; and that surface's uncertainty where each of them has one."""
        found: dict[str, Surface] = {"source": SourceSurface(self, categories_of(self.placed))}
        doubts = {one.number: one.surface.companions.get("uncertainty") for one in self.placed}
        if all(one is not None for one in doubts.values()):
            found["uncertainty"] = OfSource(self, {number: one for number, one in doubts.items() if one is not None})
        return found

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._joined(window, level).heights

    def sources(self, window: Window, level: int = 0) -> Sources:
        """The number of the surface each cell of a window came from (of the most weighty one for means), -1 where empty."""
        return self._joined(window, level).sources

    def _joined(self, window: Window, level: int) -> Rule:
        grid = self.grid.at_level(level)
        rule = self._rule(window.rows, window.cols)
        inside = window.clipped(grid.rows, grid.cols)
        if not (inside.rows and inside.cols):
            return rule
        cell = min(grid.metres_per_cell())
        width = self._feather / cell
        nothing = np.empty((0, 0))
        meeting = [one for one in self.placed if one.meets(window, level)]
        held: dict[int, Heights] = {}
        if self._rule.weighs and width > 1 and len(meeting) > 1:
            read = {one.number: one.read(window, level) for one in meeting}
            held = {number: heights for number, heights in read.items() if not np.isnan(heights).all()}
            meeting = [one for one in meeting if one.number in held]
        # alone a surface counts whole whatever it weighs
        halo = math.ceil(width) if len(held) > 1 else 0
        owners = self.seams.owners(window, level) if self.seams is not None and self._rule.name == "seam" else None
        if owners is not None:  # the owner first, then whoever has a height
            for one in meeting:
                heights = one.read(window, level)
                rule.feed(one.number, np.where(owners == one.number, heights, np.float32(np.nan)), nothing)
        for one in meeting:
            if halo:
                wide = one.read(window.grown(halo), level)
                measure = edge_weights(continued(wide, window.grown(halo), grid), halo, width)
                heights = np.ascontiguousarray(wide[halo:-halo, halo:-halo])
            else:
                heights = held[one.number] if one.number in held else one.read(window, level)
                measure = self._measure(one, grid, window) if self._rule.name == "nearest" else nothing
                if self._rule.weighs:
                    measure = np.ones(heights.shape)
            rule.feed(one.number, heights, measure)
        return rule

    def _measure(self, one: Placed, grid: Grid, window: Window) -> FloatArray:
        """Squared metres to a surface's own middle."""
        xs, ys = grid.centres(window)
        across, up = self.grid.metres_per_unit()
        found: FloatArray = ((xs - one.middle[0]) * across) ** 2 + (((ys - one.middle[1]) * up) ** 2)[:, None]
        return found


class Sheet(Mosaic):
    """Tiles of one surface: nothing is said of which cell is of which."""

    @property
    def companions(self) -> Mapping[str, Surface]:
        return {}


class WithSources(Surface):
    """A surface that knows which of its inputs each cell came from."""

    @abstractmethod
    def sources(self, window: Window, level: int = 0) -> Sources:
        """Their numbers `(window.rows, window.cols)`, -1 where empty."""


def categories_of(placed: Sequence[Placed]) -> tuple[Category, ...]:
    """What the cells of `SourceSurface` stand for."""
    return tuple(Category(one.number + 1, f"Surface {one.number + 1}", inputs=(one.number,)) for one in placed)


class SourceSurface(Surface):
    """Which surface each cell of a mosaic came from, counted from 1 in the order they were given."""

    def __init__(self, mosaic: WithSources | Mosaic, categories: tuple[Category, ...]) -> None:
        super().__init__(mosaic.grid, "")
        self._mosaic = mosaic
        self.categories = categories
        many = max((one.value for one in categories), default=0) > _MOST_IN_A_BYTE
        self.encoding = Encoding("int32" if many else "uint8", 1.0, 0.0, categorical=True)

    def made_of(self) -> tuple[Any, ...]:
        return (self._mosaic.fingerprint,)

    @property
    def findings(self) -> list[Finding]:
        return self._mosaic.findings

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self._mosaic.prepare(progress)

    def read(self, window: Window, level: int = 0) -> Heights:
        found = self._mosaic.sources(window, level)
        return np.where(found < 0, np.nan, found + 1.0).astype(np.float32)


class OfSource(Surface):
    """For each cell of a mosaic what a companion of the surface it came from says; of the most weighty one for means, which are
    better known than that where the surfaces' errors are independent."""

    def __init__(self, mosaic: WithSources | Mosaic, companions: Mapping[int, Surface]) -> None:
        super().__init__(mosaic.grid, mosaic.unit)
        self._mosaic, self._companions = mosaic, dict(companions)

    def made_of(self) -> tuple[Any, ...]:
        return (self._mosaic.fingerprint, [(number, one.fingerprint) for number, one in self._companions.items()])

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self._mosaic.prepare(progress)

    def read(self, window: Window, level: int = 0) -> Heights:
        sources = self._mosaic.sources(window, level)
        result = np.full(sources.shape, np.nan, np.float32)
        for number, one in self._companions.items():
            here = sources == number
            if here.any():
                result[here] = one.read(window, level)[here]
        return result
