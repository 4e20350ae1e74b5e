"""Heights: the distribution of one surface or two and of their difference over every cell, as figures."""

from __future__ import annotations

from typing import Any

import shapely
from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.clip import polygons_of
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds
from yama.terrain.judge.distribution import Over, distributions
from yama.terrain.operations.area import AREA, about_area
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Column, Table

Ring = list[tuple[float, float]]


class HeightsParams(Params):
    """Over which area, and about which levels."""

    bounds: tuple[float, float, float, float] | None = Field(
        None, description="West, south, east, north, in the frame."
    )
    ring: Ring | None = Field(None, max_length=10_000, description="Corners of a polygon in the frame.")
    levels: tuple[float, float] | None = Field(None, description="Lower and upper level, in the surfaces' unit.")
    about: tuple[float, float] = Field((0.0, 0.0), description="Lower and upper level of the difference.")


def area_of(
    bounds: tuple[float, float, float, float] | None, ring: Ring | None, polygons: list[shapely.Polygon]
) -> tuple[Bounds | None, tuple[shapely.Polygon, ...]]:
    """A rectangle, a drawn ring and polygons as one area. Raises InputError for a ring that encloses nothing."""
    if bounds is not None and not (bounds[0] < bounds[2] and bounds[1] < bounds[3]):
        raise InputError("The area must be west, south, east, north, each side of it some way from the other.")
    drawn: list[shapely.Polygon] = []
    if ring is not None:
        whole = shapely.make_valid(shapely.Polygon(ring)) if len(ring) > 2 else shapely.Polygon()
        drawn = [part for part in shapely.get_parts(whole) if part.geom_type == "Polygon" and part.area > 0]
        if not drawn:
            raise InputError("The drawn area encloses nothing. Draw three corners or more.")
    return Bounds(*bounds) if bounds else None, (*drawn, *polygons)


@register
class Heights(Operation[HeightsParams]):
    """Distribution of heights, cell by cell."""

    name = "heights"
    title = "Heights"
    stage = "Judge"
    summary = "Distribution, area and volume of heights and of their difference, over every cell."
    inputs = {
        "first": Role("surface", "First surface"),
        "second": Role("surface", "Second surface", optional=True),
        "area": AREA,
    }
    outputs = {"figures": Output("table", "Heights")}
    heights_in = "frame"
    previews = "none"
    area_role = "area"

    def check(self, inputs: Inputs, params: HeightsParams, frame: Frame) -> list[Finding]:
        return about_area(inputs, frame)

    def run(self, inputs: Inputs, params: HeightsParams, frame: Frame, progress: Progress) -> Results:
        first, second = inputs.surface("first"), next(iter(inputs.surfaces("second")), None)
        polygons = polygons_of(inputs.features("area"), frame.grid.crs)
        bounds, within = area_of(params.bounds, params.ring, polygons)
        found = distributions(first, second, frame, Over(bounds, within), params.levels, params.about, progress)
        return Results(figures=_table(found, first.unit))


_NAMES = {"a": "First", "b": "Second", "minus": "First minus second"}
_SHOWN = (
    ("lowest", "Lowest"), ("highest", "Highest"), ("mean", "Mean"), ("deviation", "Standard deviation"), ("nmad", "NMAD"),
)  # fmt: skip


def _table(found: dict[str, Any], unit: str) -> Table:
    """Distributions as a table with a row for each, and all of their figures as facts."""
    columns = (
        Column("of", "Of", type="text"), Column("cells", "Cells", type="whole"), Column("empty", "Empty", type="whole"),
        *(Column(name, title, unit, decimals=3) for name, title in _SHOWN),
    )  # fmt: skip
    rows = [
        (title, found[name]["cells"], found[name]["empty"], *(found[name][shown] for shown, _ in _SHOWN))
        for name, title in _NAMES.items() if found[name]
    ]  # fmt: skip
    return Table(columns, rows, {**found, "unit": unit})
