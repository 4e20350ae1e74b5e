"""Find ground points: a cloud without classes gets ground and noise, as a new cloud."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field
from pyproj import Transformer

from yama.terrain.cloud import Reclassified
from yama.terrain.findings import Finding, Fix
from yama.terrain.frame import Frame, utm_zone
from yama.terrain.grid import Bounds, parse_crs
from yama.terrain.interpolate.ground import GroundFinder, Settings
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, OnlyWith, Params, Percent
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress

_USUAL = Settings()


class GroundParams(Params):
    """How ground and noise are told from the rest."""

    window: GroundMetres = Field(
        _USUAL.window, gt=0, le=200, title="Widest thing", description="Width of the widest building or crown."
    )
    cell: GroundMetres = Field(
        _USUAL.cell, ge=0.1, le=20, title="Cells", description="Cells of which the lowest return is looked at."
    )
    slope: Percent = Field(100 * _USUAL.slope, gt=0, le=500, title="Steepest", description="The steepest ground.")
    near: GroundMetres = Field(
        _USUAL.near, gt=0, le=10, title="Within", description="Points this near the ground surface are ground."
    )
    leeway: float = Field(
        _USUAL.leeway, ge=0, le=10, description="Share of the rise across a cell that is added to that."
    )
    noise: bool = Field(
        True,
        title="Points that lie alone or under the ground",
        description="Points that lie alone, and those far below the ground, become noise.",
    )
    few: Annotated[int, OnlyWith("noise", (True,))] = Field(
        _USUAL.few,
        ge=1,
        le=50,
        title="Others",
        description="Noise: others in 27 cubes with which a point is still alone.",
    )
    cube: Annotated[GroundMetres, OnlyWith("noise", (True,))] = Field(
        _USUAL.cube, gt=0, le=100, title="In cubes of", description="Noise: width of the cubes points are counted in."
    )


@register
class FindGround(Operation[GroundParams]):
    """Classes of ground and noise for a cloud."""

    name = "find_ground"
    title = "Find ground points"
    stage = "Build"
    summary = "A cloud without classes gets ground and noise points; the untouched one stays."
    inputs = {
        "cloud": Role("cloud", "Point cloud"),
        "beside": Role("cloud", "Clouds beside it", many=True, optional=True),
    }
    outputs = {"cloud": Output("cloud", "Classified cloud")}
    previews = "none"

    def check(self, inputs: Inputs, params: GroundParams, frame: Frame) -> list[Finding]:
        cloud = inputs.cloud("cloud")
        found = []
        turn = Transformer.from_crs(parse_crs(cloud.crs), parse_crs(_measuring(frame)), always_xy=True)
        box = Bounds(*turn.transform_bounds(*cloud.bounds))
        spacing = ((box.east - box.west) * (box.north - box.south) / max(cloud.count, 1)) ** 0.5
        if params.cell < spacing:
            fit = round(2 * spacing + 0.5)
            found.append(
                Finding("sparse", "caution", f"Points lie {spacing:.1f} m apart on the whole; most cells of {params.cell:g} m "
                        "hold none.", "Ground between them is guessed.", Fix(f"Use {fit} m", {"cell": fit}))
            )  # fmt: skip
        around = (3 * params.cube / max(spacing, 1e-9)) ** 2
        if params.noise and around < 5 * params.few:
            wide = round(spacing * (5 * params.few) ** 0.5 / 3 + 0.5)
            found.append(
                Finding("thin", "caution", f"27 cubes of {params.cube:g} m hold about {max(around, 1):.0f} points here.",
                        "Good points would be taken for noise.", Fix(f"Use cubes of {wide} m", {"cube": wide}))
            )  # fmt: skip
        if params.window < 4 * params.cell:
            found.append(
                Finding("narrow", "caution", f"A window of {params.window:g} m is hardly wider than cells of {params.cell:g} m.",
                        "Crowns and roofs stay in the ground.", Fix("Use 20 m", {"window": 20.0, "cell": 1.0}))
            )  # fmt: skip
        return found

    def run(self, inputs: Inputs, params: GroundParams, frame: Frame, progress: Progress) -> Results:
        cloud = inputs.cloud("cloud")
        settings = Settings(
            params.cell, params.slope / 100, params.window, params.near, params.leeway, params.cube,
            params.few if params.noise else 0,
        )  # fmt: skip
        around = [one for one in inputs.clouds("beside") if one.path != cloud.path]
        return Results(cloud=Reclassified(cloud, GroundFinder(cloud, around, _measuring(frame), settings)))


def _measuring(frame: Frame) -> str:
    """A CRS in which lengths are metres of the ground: the frame's own, else the UTM zone of its middle."""
    grid = frame.grid
    if grid.ground().unit == 1.0:
        return grid.crs
    turn = Transformer.from_crs(parse_crs(grid.crs), parse_crs("EPSG:4326"), always_xy=True)
    return utm_zone(*turn.transform(*grid.middle))
