"""Grid a point cloud: what the points of each cell say, for classes and returns chosen."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator
from pyproj import Transformer

from yama.terrain.cloud import Cloud
from yama.terrain.features import parts_of
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import Burned, Flattened, polygons_of, rim_levels
from yama.terrain.formats.las import CLASSES
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, FloatArray, metres_per_unit
from yama.terrain.interpolate.binning import Filter, GriddedCloud
from yama.terrain.operations.area import AREA, about_area, about_bounds, within_area, within_bounds
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import (
    CellSize,
    Degrees,
    HeightMetres,
    Metres,
    OnlyWith,
    Params,
    Percent,
    Titles,
    Unset,
)
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.quantities import Quantity
from yama.terrain.segments import segments_of
from yama.terrain.surface import Surface

_NOISE = {7, 18}


RULES = Titles(
    {
        "lowest": "the lowest", "mean": "the mean", "highest": "the highest", "median": "the median",
        "percentile": "a percentile", "deviation": "their spread", "count": "how many there are",
        "intensity": "their mean intensity", "facets": "the facets between them",
    }
)  # fmt: skip
_OF_HEIGHTS = ("lowest", "mean", "highest", "median", "percentile", "facets")


class GridCloudParams(Params):
    """Which points count, what of them a cell says, and which gaps are closed."""

    classes: list[int] | None = Field([2], description="Classes of the points to use; all where null.", max_length=256)
    returns: Annotated[
        Literal["any", "first", "last", "single"],
        Titles(
            {
                "any": "every return",
                "first": "first of each pulse",
                "last": "last of each pulse",
                "single": "only of its pulse",
            }
        ),
    ] = "any"
    rule: Annotated[
        Literal["lowest", "mean", "highest", "median", "percentile", "deviation", "count", "intensity", "facets"], RULES
    ] = Field("mean", title="A cell says", description="What of the points in it a cell is.")
    percentile: Annotated[Percent, OnlyWith("rule", ("percentile",))] = Field(
        95.0, ge=0, le=100, description="Of heights, for the rule percentile."
    )
    low: Annotated[HeightMetres, Unset("any")] | None = Field(
        None, title="Above", description="Lower points are left out."
    )
    high: Annotated[HeightMetres, Unset("any")] | None = Field(
        None, title="Below", description="Higher points are left out."
    )
    scan_angle: Annotated[Degrees, Unset("any")] | None = Field(
        None, gt=0, le=90, description="Points seen farther to the side are left out."
    )
    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")
    bounds: tuple[float, float, float, float] | None = Field(
        None, title="Rectangle", description="West, south, east, north in the frame's CRS: only what lies in it."
    )
    gap: Annotated[Metres, OnlyWith("rule", _OF_HEIGHTS)] = Field(
        0.0, ge=0, le=500, title="Close gaps", description="Gaps up to this width are closed; wider ones stay empty."
    )

    @model_validator(mode="after")
    def _whole(self) -> GridCloudParams:
        if self.classes is not None and not (self.classes and all(0 <= code <= 255 for code in self.classes)):
            raise ValueError("choose at least one class, each from 0 to 255")
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("the lowest height kept must be below the highest")
        return self


@register
class GridCloud(Operation[GridCloudParams]):
    """Lidar to a surface: bare earth, first surface, canopy, counts or intensity."""

    name = "grid_cloud"
    title = "Grid a point cloud"
    stage = "Build"
    summary = "Lidar becomes a surface: ground, first returns, spread, counts or intensity."
    inputs = {
        "clouds": Role("cloud", "Point clouds", many=True),
        "breaklines": Role("features", "Breaklines", many=True, optional=True, of=("lines",)),
        "water": Role("features", "Water", many=True, optional=True, of=("polygons",)),
        "area": AREA,
    }
    outputs = {"surface": Output("surface", "Surface", "height")}
    heights_in = "metres"
    area_role = "area"

    def outputs_for(self, params: GridCloudParams) -> Mapping[str, Output]:
        return {"surface": replace(self.outputs["surface"], quantity=_quantity(params))}

    def cell_size_of(self, params: GridCloudParams) -> float | None:
        return params.cell_size

    def check(self, inputs: Inputs, params: GridCloudParams, frame: Frame) -> list[Finding]:
        clouds = inputs.clouds("clouds")
        findings = []
        area = frame.grid.bounds
        reaching = 0
        for cloud in clouds:
            turn = Transformer.from_crs(cloud.crs, frame.grid.crs, always_xy=True)
            box = Bounds(*turn.transform_bounds(*cloud.bounds))
            reaching += area.intersection(box) is not None
        if not reaching:
            return [
                Finding("outside", "stop", "No chosen cloud reaches the frame.", "Choose others, or check their CRS.")
            ]
        if reaching < len(clouds):
            beside = len(clouds) - reaching
            findings.append(
                Finding("beside", "note", f"{beside} of the {len(clouds)} clouds {'lies' if beside == 1 else 'lie'} beside "
                        "the frame.", "They add nothing.")
            )  # fmt: skip
        if params.classes is None or _NOISE & set(params.classes):
            kept = None if params.classes is None else [code for code in params.classes if code not in _NOISE]
            findings.append(
                Finding("noise", "caution", "Points classified as noise are used.",
                        "One point below ground makes a pit, one above a spike.",
                        Fix("Leave noise out", {"classes": kept or [c for c in CLASSES if c not in _NOISE]}))
            )  # fmt: skip
        spacing = _spacing(clouds)
        cell = params.cell_size or frame.grid.metres_per_cell()[0]
        if params.rule not in ("count", "intensity") and cell < spacing and not params.gap:
            wide = round(6 * max(spacing, cell))
            findings.append(
                Finding("sparse", "caution", f"Cells of {cell:g} m are finer than the points, which lie {spacing:.2f} m apart on "
                        "the whole.", "Many cells will hold no point and stay empty.",
                        Fix(f"Close gaps to {wide} m", {"gap": wide}))
            )  # fmt: skip
        if params.rule == "facets" and not params.gap:
            findings.append(
                Finding("facets", "stop", "Facets need a width of gaps up to which they reach.",
                        "Without one they would cross water and fill the frame.", Fix("Bridge 12 m", {"gap": 12}))
            )  # fmt: skip
        findings += [*about_bounds(params.bounds, frame), *about_area(inputs, frame), *_about_beside(inputs, frame)]
        if params.gap and params.rule in ("count", "deviation", "intensity"):
            findings.append(
                Finding("gap", "stop", "Gaps are closed between heights only.", "A count or spread cannot be bridged.",
                        Fix("Leave gaps open", {"gap": 0}))
            )  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: GridCloudParams, frame: Frame, progress: Progress) -> Results:
        made = within_bounds(self._gridded(inputs, params, frame), params.bounds)
        return Results(surface=within_area(made, inputs))

    @staticmethod
    def _gridded(inputs: Inputs, params: GridCloudParams, frame: Frame) -> Surface:
        clouds = inputs.clouds("clouds")
        keep = Filter(
            None if params.classes is None else tuple(params.classes), params.returns,
            -np.inf if params.low is None else params.low, np.inf if params.high is None else params.high,
            params.scan_angle or np.inf,
        )  # fmt: skip
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        unit = {"count": "points", "intensity": ""}.get(params.rule, frame.unit)
        surface: Surface = GriddedCloud(clouds, grid, params.rule, keep, params.percentile / 100, params.gap, unit)
        surface.vertical_datum = frame.vertical_datum
        if _quantity(params) != "height":
            return surface
        lines = _heights_along(inputs, grid.crs)
        if len(lines):
            surface = Burned(surface, lines)
        water = polygons_of(inputs.features("water"), grid.crs)
        if water:
            dry = surface
            surface = Flattened(dry, water, lambda: rim_levels(dry, water))
        return surface


def _quantity(params: GridCloudParams) -> Quantity:
    quantities: dict[str, Quantity] = {"deviation": "spread", "count": "count", "intensity": "intensity"}
    return quantities.get(params.rule, "height")


def _heights_along(inputs: Inputs, crs: str) -> FloatArray:
    """Pieces `(any, 6)` of the breaklines that have heights."""
    lines = [
        part
        for one in inputs.features("breaklines")
        for shape in one.in_crs(crs).geometries
        for part in parts_of(shape)
        if part.shape[1] > 2 and len(part) > 1
    ]
    pieces = segments_of(lines)
    return np.ascontiguousarray(pieces[np.isfinite(pieces).all(1)])


def _about_beside(inputs: Inputs, frame: Frame) -> list[Finding]:
    """What is wrong with breaklines and water given beside the clouds."""
    found = []
    if inputs.has("breaklines") and not len(_heights_along(inputs, frame.grid.crs)):
        found.append(
            Finding(
                "flat_lines", "caution", "None of the breaklines has heights.", "Only lines with heights are burned in."
            )
        )
    if inputs.has("water") and not polygons_of(inputs.features("water"), frame.grid.crs):
        found.append(
            Finding("no_water", "caution", "What is chosen as water holds no polygon.", "It changes nothing here.")
        )
    return found


def _spacing(clouds: list[Cloud]) -> float:
    """Mean distance of neighbours as if all points lay evenly over the clouds' rectangles, in metres."""
    ground = 0.0
    for cloud in clouds:
        box = cloud.bounds
        across, up = metres_per_unit(cloud.crs, *box.middle)
        ground += (box.east - box.west) * across * (box.north - box.south) * up
    return float((ground / max(sum(cloud.count for cloud in clouds), 1)) ** 0.5)
