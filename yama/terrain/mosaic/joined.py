"""A mosaic that is levelled, and its seams found, before its first cell is told."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from yama.terrain.ending import heard_by
from yama.terrain.findings import Finding
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic.levelling import Kind, Levelling, level
from yama.terrain.mosaic.mosaic import Mosaic, OfSource, Placed, SourceSurface, WithSources, place
from yama.terrain.mosaic.overlap import Overlap, looked_at, overlaps
from yama.terrain.mosaic.rules import RuleName, Sources
from yama.terrain.mosaic.seams import Seams
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.shelf import shared
from yama.terrain.surface import Category, Heights, Over, Surface

QUICK_CELLS = 400_000
"""Cells of the frame that overlaps are looked at on where that must be quick: for levelling and while choosing."""
_WORTH_SAYING = 0.05


@dataclass(frozen=True)
class Joining:
    """How surfaces are joined; they are counted from 0, the best first.

    Parameters
    ----------
    rule : str
        What a cell is where several surfaces have a height; see `rules`.
    feather, band : float
        Metres; see `Mosaic` and `Seams`.
    given : tuple of (int, Polygon)
        Areas in the grid's CRS with the surface that is taken there, for the rule ``seam``.
    levelling : {"none", "offset", "tilt"}
        What is added to each surface so that they agree where they overlap.
    held : int
        The surface that stays as it is when they are levelled.
    """

    rule: RuleName = "priority"
    feather: float = 40.0
    band: float = 200.0
    given: tuple[tuple[int, shapely.Polygon], ...] = ()
    levelling: Kind = "none"
    held: int = 0

    @property
    def told(self) -> tuple[Any, ...]:
        """Itself as plain values."""
        given = [(number, area.wkb) for number, area in self.given]
        return (self.rule, self.feather, self.band, given, self.levelling, self.held)


def overlaps_of(
    surfaces: Sequence[Surface], grid: Grid, at: int, progress: Progress = ignore_progress
) -> list[Overlap]:
    """How surfaces differ where two of them have heights; found once for all processes.

    Parameters
    ----------
    surfaces : sequence of Surface
        Counted from 0.
    grid : Grid
        On which they are joined.
    at : int
        The level of it on which they are compared.
    progress : callable
        Called with the share done.

    Returns
    -------
    list of Overlap
        One for each pair that shares cells.
    """
    made_of = ("overlaps", grid, at, [one.fingerprint for one in surfaces])
    return shared(made_of, lambda: overlaps(place(surfaces, grid), grid, at, progress))


def seams_of(surfaces: Sequence[Surface], placed: Sequence[Placed], grid: Grid, how: Joining) -> Seams:
    """Which surface holds which cells, along lines where they agree best; found once for all processes.

    Parameters
    ----------
    surfaces : sequence of Surface
        As they were given.
    placed : sequence of Placed
        The same on the grid, levelled.
    grid : Grid
        On which they are joined.
    how : Joining
        Its band and its areas count.
    """
    prints = [one.fingerprint for one in surfaces]
    made_of = ("seams", grid, [one.plane for one in placed], how.band, how.told, prints)
    return shared(made_of, lambda: Seams(placed, grid, how.band, how.given))


class Joined(WithSources):
    """Surfaces joined on a grid. Thread-safe.

    Parameters
    ----------
    surfaces : sequence of Surface
        The best first, in one unit of height.
    grid, unit, vertical_datum
        Of the mosaic.
    how : Joining
        How they are joined.
    inputs : sequence of sequence of int, optional
        For each surface the places of the inputs that it is a sheet of, where it is one.

    Raises
    ------
    InputError
        Where none of them lies on the grid.
    """

    def __init__(
        self, surfaces: Sequence[Surface], grid: Grid, unit: str = "m", vertical_datum: str = "", how: Joining = Joining(),
        inputs: Sequence[Sequence[int]] = (),
    ) -> None:  # fmt: skip
        super().__init__(grid, unit, vertical_datum)
        self._surfaces = list(surfaces)
        self._how = how
        self._inputs = [tuple(one) for one in inputs] or [(number,) for number in range(len(surfaces))]
        self._lock = threading.Lock()
        self._made: tuple[Mosaic, Levelling | None] | None = None

    def made_of(self) -> tuple[Any, ...]:
        return (self._how.told, [one.fingerprint for one in self._surfaces])

    def made(self) -> tuple[Mosaic, Levelling | None]:
        """The mosaic, and how its surfaces were levelled."""
        with self._lock:
            if self._made is None:
                self._made = self._make()
            return self._made

    def prepare(self, progress: Progress = ignore_progress) -> None:
        """Level the surfaces and find the seams."""
        with heard_by(progress):
            for done, one in enumerate(self._surfaces):
                one.prepare(lambda share, done=done: progress(0.5 * (done + share) / len(self._surfaces)))  # type: ignore[misc]
            with self._lock:
                if self._made is None:
                    self._made = self._make(lambda share: progress(0.5 + 0.5 * share))

    def _make(self, progress: Progress = ignore_progress) -> tuple[Mosaic, Levelling | None]:
        how, grid = self._how, self.grid
        levelled, planes = None, None
        if how.levelling != "none":
            at = looked_at(grid, QUICK_CELLS)
            found = overlaps_of(self._surfaces, grid, at, lambda share: progress(0.8 * share))
            levelled = level(found, len(self._surfaces), how.levelling, how.held)
            planes = levelled.planes
        placed = place(self._surfaces, grid, planes)
        seams = seams_of(self._surfaces, placed, grid, how) if how.rule == "seam" else None
        return Mosaic(placed, grid, how.rule, how.feather, seams, self.unit, self.vertical_datum), levelled

    @property
    def companions(self) -> Mapping[str, Surface]:
        """See `Mosaic.companions`."""
        found: dict[str, Surface] = {"source": SourceSurface(self, self._categories())}
        doubts = [one.companions.get("uncertainty") for one in self._surfaces]
        if all(one is not None for one in doubts):
            placed = place([one for one in doubts if one is not None], self.grid)
            found["uncertainty"] = OfSource(self, {one.number: one.surface for one in placed})
        return found

    def _categories(self) -> tuple[Category, ...]:
        names = [one.name or f"Surface {i + 1}" for i, one in enumerate(self._surfaces)]
        return tuple(
            Category(i + 1, name, inputs=inputs)
            for i, (name, inputs) in enumerate(zip(names, self._inputs, strict=True))
        )

    @property
    def findings(self) -> list[Finding]:
        """What levelling did, and whom it could not reach."""
        return about_levelling(self.made()[1])

    def read(self, window: Window, level: int = 0) -> Heights:
        return self.made()[0].read(window, level)

    def sources(self, window: Window, level: int = 0) -> Sources:
        """The number of the surface each cell came from, -1 where empty."""
        return self.made()[0].sources(window, level)


class PairDifference(Over):
    """One surface of a mosaic minus another, levelled as they are joined; empty where one of them is."""

    def __init__(self, joined: Joined, first: int, second: int) -> None:
        super().__init__(joined)
        self._joined, self._pair = joined, (first, second)

    def settings(self) -> tuple[Any, ...]:
        return self._pair

    def read(self, window: Window, level: int = 0) -> Heights:
        placed = {one.number: one for one in self._joined.made()[0].placed}
        if not all(number in placed for number in self._pair):
            return np.full((window.rows, window.cols), np.nan, np.float32)
        first, second = (placed[number].read(window, level) for number in self._pair)
        return first - second


def named(numbers: Sequence[int], verb: str, verbs: str) -> str:
    """Surfaces by their place in the list, counted from 1, with the verb in its number."""
    shown = [str(number + 1) for number in numbers[:6]]
    names = shown[0] if len(shown) == 1 else ", ".join(shown[:-1]) + f" and {shown[-1]}"
    more = f" and {len(numbers) - 6} more" if len(numbers) > 6 else ""
    return f"Surface {names} {verb}" if len(numbers) == 1 else f"Surfaces {names}{more} {verbs}"


def about_levelling(levelled: Levelling | None) -> list[Finding]:
    """What levelling did, and whom it could not reach."""
    if levelled is None:
        return []
    findings = []
    moved = [(i, plane) for i, plane in enumerate(levelled.planes) if abs(plane.offset) >= _WORTH_SAYING]
    if moved:
        said = ", ".join(f"{i + 1} by {plane.offset:+.2f} m".replace("-", "\u2212") for i, plane in moved[:6])
        findings.append(
            Finding("levelled", "note", f"Moved up or down: surface {said}.", "That is what they differed by.")
        )
    if levelled.alone:
        findings.append(Finding("alone", "caution", f"{named(levelled.alone, 'overlaps', 'overlap')} none that is tied to "
                                "the held one.", "It could not be levelled to it."))  # fmt: skip
    return findings
