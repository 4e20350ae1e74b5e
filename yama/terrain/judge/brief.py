"""Whether a surface is what was asked for: a brief's demands, answered with figures.

The accuracy statement has the terms of ISO 19157 (positional accuracy, tested against independent points) and of the
usual standards for elevation: RMSE and 1.96 RMSE where nothing grows, as errors are about normal there, and the 95th
percentile of their sizes under vegetation, where they are not.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features, parts_of
from yama.terrain.fit.clip import inside, polygons_of
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.judge.accuracy import Figures, figures_of
from yama.terrain.judge.demands import (
    AnyDemand,
    CellsOf,
    Covered,
    ErrorWithin,
    Falls,
    HandedOverAs,
    LiesLevel,
    NoHole,
    OfFeatures,
    Zero,
    listed,
)
from yama.terrain.judge.intervals import sureness
from yama.terrain.judge.places import Judged, Places
from yama.terrain.judge.scorecard import FEW
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, Surface, each, sample
from yama.terrain.voids import HoleFinder

_MOST_CELLS = 400_000_000
_STRIP = 4_000_000  # cells that are read at once
_NORMAL = 1.96  # standard deviations within which 95 % of normal errors lie
_SHARE = 0.95


@dataclass(frozen=True)
class Answer:
    """What a surface says to a demand.

    Parameters
    ----------
    met : bool, optional
        None where it cannot be told; `told` says why.
    figure : float, optional
        What was found, in `unit`.
    unit : str
    told : str
        More of it, in sentences; empty where there is nothing more to say.
    at : tuple of float, optional
        x, y in the surface's CRS: where to look, such as the largest hole.
    """

    met: bool | None
    figure: float | None = None
    unit: str = ""
    told: str = ""
    at: tuple[float, float] | None = None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return vars(self)


@dataclass(frozen=True)
class Subject:
    """A surface with all that demands are answered from.

    Parameters
    ----------
    surface : Surface
        With heights in metres.
    places : Places, optional
        Checkpoints; None where the project has none.
    judged : Judged, optional
        Its errors there.
    left_out : ndarray of bool, shape (places,), optional
        Which of them went into the surface.
    features : mapping
        By number, as demands name them.
    names : mapping
        What they are called.
    handed_over_as : str
        The format of a package; empty where there is none yet.
    """

    surface: Surface
    places: Places | None = None
    judged: Judged | None = None
    left_out: npt.NDArray[np.bool_] | None = None
    features: Mapping[int, Features] = field(default_factory=dict)
    names: Mapping[int, str] = field(default_factory=dict)
    handed_over_as: str = ""

    def errors(self, covers: Sequence[str] = ()) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Errors at the places that count, NaN elsewhere, and where they lie in metres."""
        if self.places is None or self.judged is None:
            raise InputError("There are no checkpoints. Choose some under Scorecard.")
        errors = self.judged.errors.copy()
        if self.left_out is not None:
            errors[self.left_out] = np.nan
        if covers:
            if not self.places.covers.size:
                raise InputError("The checkpoints say nothing of what covers the ground: they have no codes.")
            among = np.isin(self.places.covers, list(covers))
            if not among.any():
                there = ", ".join(np.unique(self.places.covers)[:8].tolist())
                raise InputError(f"No checkpoint stands in {listed(covers)}; they stand in {there}.")
            errors[~among] = np.nan
        return (errors, *self.places.in_metres())

    def chosen(self, demand: OfFeatures) -> Features:
        """The features that a demand speaks of."""
        found = self.features.get(demand.features)
        if found is None:
            raise InputError("What it speaks of is no longer in the project. Change the demand.")
        if not demand.column:
            return found
        values = found.attributes.get(demand.column)
        keep = np.array([str(one) == demand.value for one in values or ()], np.bool_)
        if not keep.any():
            raise InputError(f"{demand.called(self.names)} is not among these features any more. Change the demand.")
        return found.kept(keep)

    def polygons(self, demand: OfFeatures) -> list[shapely.Polygon]:
        """Their polygons in the surface's CRS."""
        found = polygons_of([self.chosen(demand)], self.surface.grid.crs)
        if not found:
            raise InputError(f"{demand.called(self.names)} has no polygons.")
        return found


def _window_of(polygons: Sequence[shapely.Polygon], grid: Grid) -> Window:
    """The cells of a grid around polygons; none where it does not reach there."""
    west, south, east, north = shapely.total_bounds(np.array(polygons, dtype=object))
    top, bottom = (int(np.clip(np.floor(grid.row_of(y)), -1, grid.rows)) for y in (north, south))
    left, right = (int(np.clip(np.floor(grid.col_of(x)), -1, grid.cols)) for x in (west, east))
    return Window(top, left, bottom - top + 2, right - left + 2).clipped(grid.rows, grid.cols)


def _strips(window: Window) -> list[Window]:
    high = max(_STRIP // max(window.cols, 1), 1)
    bottom = window.row + window.rows
    return [Window(row, window.col, min(high, bottom - row), window.cols) for row in range(window.row, bottom, high)]


def _refuse_many(window: Window) -> None:
    if window.rows * window.cols > _MOST_CELLS:
        raise InputError(
            f"The area holds {window.rows * window.cols / 1e6:.0f} million cells of this surface, more than can be "
            "looked at in one piece. Name a smaller area."
        )


def _cells_within(
    surface: Surface, polygons: Sequence[shapely.Polygon], progress: Progress
) -> tuple[Window, npt.NDArray[np.bool_], int]:
    """The window around polygons, which of its cells are empty within them, and how many within them are not."""
    window = _window_of(polygons, surface.grid)
    _refuse_many(window)
    empty = np.zeros((window.rows, window.cols), np.bool_)

    def look(strip: Window) -> int:
        within = inside(polygons, surface.grid, strip) > 0
        if not within.any():
            return 0
        filled = np.isfinite(surface.read(strip))
        empty[strip.row - window.row : strip.row - window.row + strip.rows] = within & ~filled
        return int((within & filled).sum())

    return window, empty, sum(each(_strips(window), look, progress))


def _holes(demand: NoHole, subject: Subject, progress: Progress) -> Answer:
    surface, polygons = subject.surface, subject.polygons(demand)
    window, empty, filled = _cells_within(surface, polygons, progress)
    if not filled:
        return Answer(False, told="It has no heights there at all.")
    # a rim of filled cells around: what the window's edge cuts is a hole too
    finder = HoleFinder(window.rows + 2, window.cols + 2)
    for row in range(0, window.rows + 2, 1024):
        part = np.zeros((min(1024, window.rows + 2 - row), window.cols + 2), np.bool_)
        first, last = max(row - 1, 0), min(row - 1 + part.shape[0], window.rows)
        if last > first:
            part[first + 1 - row : last + 1 - row, 1:-1] = empty[first:last]
        finder.add(part)
    found = finder.result
    if not found.count:
        return Answer(True, 0, "holes")
    largest = found.largest[0]
    wide, high = surface.grid.metres_per_cell()
    rows, cols = np.nonzero(empty[largest.top - 1 : largest.bottom, largest.left - 1 : largest.right])
    middle = len(rows) // 2
    at = (
        float(surface.grid.x_of(window.col + largest.left - 1 + cols[middle])),
        float(surface.grid.y_of(window.row + largest.top - 1 + rows[middle])),
    )
    return Answer(False, found.count, "holes", f"{_area(found.cells * wide * high)} stay empty.", at)


def _area(square_metres: float) -> str:
    if square_metres >= 1e6:
        return f"{square_metres / 1e6:,.2f} km²"
    return f"{square_metres:,.0f} m²".replace(",", "\u202f")


def _covered(demand: Covered, subject: Subject, progress: Progress) -> Answer:
    surface, polygons = subject.surface, subject.polygons(demand)
    _, empty, filled = _cells_within(surface, polygons, progress)
    bounds = surface.grid.bounds
    whole = shapely.union_all(polygons)
    beyond = 1 - shapely.intersection(whole, shapely.box(*bounds)).area / whole.area
    cells = filled + int(empty.sum())
    share = 100 * (filled / cells if cells else 0.0) * (1 - beyond)
    missing = (1 - share / 100) * whole.area * float(np.prod(surface.grid.metres_per_unit()))
    # what is less than a cell of its rim is not missing
    met = share >= demand.share - 1e-6
    told = "" if met else f"{_area(missing)} have no heights."
    shown = share if met else min(share, demand.share - 0.01)
    return Answer(met, shown, "%", told)


def _levels_within(surface: Surface, polygon: shapely.Polygon, progress: Progress) -> Heights:
    """Heights of the cells that lie wholly within a polygon; the first of very many."""
    grid = surface.grid
    shrunk = shapely.buffer(polygon, -0.75 * max(grid.cell_width, grid.cell_height))
    parts = [one for one in shapely.get_parts(shrunk) if one.area > 0] or [polygon]
    window = _window_of(parts, grid)
    _refuse_many(window)

    def look(strip: Window) -> Heights:
        within = inside(parts, grid, strip) > 0
        if not within.any():
            return np.empty(0, np.float32)
        cells = surface.read(strip)[within]
        return cells[np.isfinite(cells)]

    found = each(_strips(window), look, progress)
    return np.concatenate(found) if found else np.empty(0, np.float32)


def _level(demand: LiesLevel, subject: Subject, progress: Progress) -> Answer:
    polygons = subject.polygons(demand)
    worst = (-1.0, 0.0, polygons[0])
    empty = 0
    for number, polygon in enumerate(polygons):
        heights = _levels_within(
            subject.surface,
            polygon,
            lambda share, number=number: progress((number + share) / len(polygons)),  # type: ignore[misc]
        ).astype(np.float64)
        if not heights.size:
            empty += 1
            continue
        median = float(np.median(heights))
        spread = float(np.quantile(np.abs(heights - median), _SHARE))
        if spread > worst[0]:
            worst = (spread, median, polygon)
    if empty == len(polygons):
        return Answer(False, told="It has no heights there.")
    spread, median, polygon = worst
    at = polygon.representative_point()
    said = f"It lies at {median:.2f} m."
    if len(polygons) > 1:
        said = f"The worst of {len(polygons)} lies at {median:.2f} m."
    if empty:
        said += f" {empty} of {len(polygons)} have no heights."
    return Answer(spread <= demand.within and not empty, spread, "m", said, (at.x, at.y))


def _rises(surface: Surface, line: FloatArray) -> tuple[float, tuple[float, float] | None, int]:
    """By how much a surface rises most along a line above what lies upstream, where, and how many of the places along
    it are empty. Water runs the way in which it rises less."""
    step = min(surface.grid.cell_width, surface.grid.cell_height)
    along = shapely.get_coordinates(shapely.segmentize(shapely.LineString(line[:, :2]), step))
    heights = sample(surface, along[:, 0], along[:, 1])
    known = np.isfinite(heights)
    places, heights = along[known], heights[known]
    if not heights.size:
        return np.nan, None, len(along)
    best: tuple[float, tuple[float, float]] | None = None
    for places_on, heights_on in ((places, heights), (places[::-1], heights[::-1])):
        above = heights_on - np.minimum.accumulate(heights_on)
        top = int(np.argmax(above))
        if best is None or above[top] < best[0]:
            best = (float(above[top]), (float(places_on[top, 0]), float(places_on[top, 1])))
    assert best is not None
    return best[0], best[1], int((~known).sum())


def _falls(demand: Falls, subject: Subject, progress: Progress) -> Answer:
    there = subject.chosen(demand).in_crs(subject.surface.grid.crs)
    lines = [
        part
        for one in there.geometries
        if one.geom_type.endswith("LineString")
        for part in parts_of(one)
        if len(part) > 1
    ]
    if not lines:
        raise InputError(f"{demand.called(subject.names)} has no lines.")
    found = each(lines, lambda line: _rises(subject.surface, line), progress)
    known = [(rise, at) for rise, at, _ in found if at is not None]
    empty = sum(count for *_, count in found)
    if not known:
        return Answer(False, told="It has no heights along it.")
    rise, at = max(known, key=lambda one: one[0])
    met = rise <= demand.within
    told = f"{empty} places along it have no heights." if empty else ""
    return Answer(met, rise, "m", told, None if met else at)


def _within_error(demand: ErrorWithin, subject: Subject, progress: Progress) -> Answer:
    errors, east, north = subject.errors(demand.covers)
    figures = figures_of(errors)
    value = getattr(figures, demand.figure)
    sure = sureness(errors, east, north)
    between = sure.intervals.get(demand.figure) if sure is not None else None
    told = f"At {figures.count} checkpoints"
    if figures.count < FEW:
        told += f", fewer than the {FEW} that make it sure"
    elif between is not None:
        low, high = between
        told += f"; between {low:.2f} and {high:.2f} m, 95 times of 100"
        if low < demand.within < high or low < -demand.within < high:
            told += ", so it may be chance"
    worst = int(np.nanargmax(np.abs(errors)))
    met = abs(value) <= demand.within
    assert subject.places is not None
    x, y = subject.places.in_crs(subject.surface.grid.crs)
    return Answer(met, value, "m", f"{told}.", None if met else (float(x[worst]), float(y[worst])))


def _zero(demand: Zero, subject: Subject, progress: Progress) -> Answer:
    stated = subject.surface.vertical_datum
    if not stated:
        return Answer(None, told="What zero means is not known of it. Declare it under Gather, or in Fit.")
    if stated.strip().casefold() != demand.datum.strip().casefold():
        return Answer(False, told=f"Its heights stand above {stated}.")
    if demand.within is None:
        return Answer(True)
    figures = figures_of(subject.errors()[0])
    met = abs(figures.median) <= demand.within
    return Answer(met, figures.median, "m", f"Median error at {figures.count} checkpoints.")


def _cells(demand: CellsOf, subject: Subject, progress: Progress) -> Answer:
    size = max(subject.surface.grid.metres_per_cell())
    return Answer(size <= demand.size * (1 + 1e-3), size, "m")


def _format(demand: HandedOverAs, subject: Subject, progress: Progress) -> Answer:
    if not subject.handed_over_as:
        return Answer(None, told="A package tells.")
    return Answer(subject.handed_over_as == demand.format)


_ANSWERS: dict[str, Callable[[Any, Subject, Progress], Answer]] = {
    "error": _within_error,
    "holes": _holes,
    "area": _covered,
    "level": _level,
    "falling": _falls,
    "datum": _zero,
    "cells": _cells,
    "format": _format,
}


def answer(demand: AnyDemand, subject: Subject, progress: Progress = ignore_progress) -> Answer:
    """Whether a surface meets a demand. What cannot be told has a reason and no `met`."""
    try:
        return _ANSWERS[demand.kind](demand, subject, progress)
    except InputError as error:
        return Answer(None, told=str(error))


def statement(subject: Subject, vegetated: Sequence[str] = ()) -> list[str]:
    """What may be said of a surface's vertical accuracy, in the terms of the positional accuracy standards; empty where
    there are no checkpoints. vegetated: covers under which the ground is told by vegetation."""
    try:
        errors, *_ = subject.errors()
    except InputError:
        return []
    covers = subject.places.covers if subject.places is not None else np.empty(0)
    grown = np.isin(covers, list(vegetated)) if covers.size and vegetated else np.zeros(errors.size, np.bool_)
    said = []
    for name, chosen in (("non-vegetated", ~grown), ("vegetated", grown)):
        used = errors[chosen & np.isfinite(errors)]
        if used.size:
            said.append(_stated(name, figures_of(used), bool(grown.any())))
    return said


def _stated(name: str, figures: Figures, split: bool) -> str:
    mean = f"{figures.mean:.2f}".replace("-", "\u2212")
    where = f"in {name} ground" if split else "wherever it was tested"
    few = f", fewer than the {FEW} that the standards ask for" if figures.count < FEW else ""
    if name == "vegetated":
        return (
            f"Tested vertical accuracy {where}: 95th percentile of errors {figures.le95:.2f} m, "
            f"RMSE {figures.rmse:.2f} m, at {figures.count} checkpoints{few}."
        )
    return (
        f"Tested vertical accuracy {where}: {_NORMAL * figures.rmse:.2f} m at the 95 % confidence level (1.96 RMSE), "
        f"RMSE {figures.rmse:.2f} m, mean error {mean} m, at {figures.count} checkpoints{few}."
    )
