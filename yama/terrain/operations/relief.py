"""What shows the form of ground, as operations: slope, aspect, hillshade, curvature, sky-view factor and openness."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Literal

from pydantic import Field

from yama.terrain.findings import Finding, Fix
from yama.terrain.frame import Frame
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Degrees, GroundMetres, NoParams, P, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.quantities import Quantity
from yama.terrain.relief.contrast import Contrast, contrast
from yama.terrain.relief.curvature import Curvature, curvature, zevenbergen_thorne_slope
from yama.terrain.relief.sky import MOST_CELLS, Sight, sight
from yama.terrain.relief.slope import Light, aspect, hillshade, slope
from yama.terrain.surface import Surface


class SlopeParams(Params):
    """How steepness is read off the neighbours."""

    method: Annotated[
        Literal["horn", "zevenbergen_thorne"],
        Titles({"horn": "Horn", "zevenbergen_thorne": "Zevenbergen and Thorne"}),
    ] = Field("horn", description="Horn: from eight neighbours, smoother. Zevenbergen and Thorne: from four, sharper.")


class HillshadeParams(Params):
    """Where the light stands."""

    azimuth: Degrees = Field(315.0, ge=0, le=360, description="Clockwise from north.")
    altitude: Degrees = Field(45.0, gt=0, le=90, description="Above the horizon.")
    exaggeration: float = Field(
        1.0, gt=0, le=100, description="Vertical exaggeration: heights are multiplied by this first."
    )
    lights: Annotated[Literal["one", "four"], Titles({"one": "one", "four": "four"})] = Field(
        "one", description="Four: weaker lights beside the main one, so that no slope lies in the dark."
    )


class CurvatureParams(Params):
    """In which direction ground bends."""

    kind: Curvature = Field("mean", description="Profile: down the slope. Plan: across it.")


class SkyParams(Params):
    """How the sky is looked at."""

    kind: Sight = Field(
        "sky_view", description="Sky view: share of the sky that is seen. Openness: mean angle from zenith or nadir."
    )
    radius: GroundMetres = Field(60.0, gt=0, le=10_000, description="How far the horizon is looked for.")


class ContrastParams(Params):
    """What ground is compared with."""

    kind: Contrast = Field(
        "above_mean", description="Height above the mean around a place, or the same in standard deviations around it."
    )
    radius: GroundMetres = Field(60.0, gt=0, le=10_000, description="How far around a place; what is near weighs most.")


def _too_far(surface: Surface, radius: float, what: str) -> list[Finding]:
    """A caution where a radius spans more cells than are looked at."""
    cell = min(surface.grid.metres_per_cell())
    if radius <= MOST_CELLS * cell:
        return []
    most = math.floor(MOST_CELLS * cell)
    return [Finding("radius", "caution", f"A radius of {radius:g} m spans more than {MOST_CELLS} cells of {cell:.3g} m; "
                    f"{what} within {most} m.", "", Fix(f"Take {most} m", {"radius": most}))]  # fmt: skip


class _Relief(Operation[P]):
    """Something about one surface's form."""

    stage = "Deliver"
    inputs = {"surface": Role("surface", "Surface")}

    def run(self, inputs: Inputs, params: P, frame: Frame, progress: Progress) -> Results:
        return Results(surface=self.of(inputs.surface("surface"), params))

    @abstractmethod
    def of(self, surface: Surface, params: P) -> Surface:
        """The live surface."""


@register
class Slope(_Relief[SlopeParams]):
    """Steepness of a surface."""

    name = "slope"
    title = "Slope"
    summary = "Steepness in degrees, from each cell's neighbours."
    outputs = {"surface": Output("surface", "Slope", "slope")}

    def of(self, surface: Surface, params: SlopeParams) -> Surface:
        return slope(surface) if params.method == "horn" else zevenbergen_thorne_slope(surface)


@register
class Aspect(_Relief[NoParams]):
    """Direction of fall of a surface."""

    name = "aspect"
    title = "Aspect"
    summary = "Direction of fall in degrees clockwise from north; level cells are empty."
    outputs = {"surface": Output("surface", "Aspect", "aspect")}

    def of(self, surface: Surface, params: NoParams) -> Surface:
        return aspect(surface)


@register
class Hillshade(_Relief[HillshadeParams]):
    """A surface lit from one side or from several."""

    name = "hillshade"
    title = "Hillshade"
    summary = "Brightness from 0 to 1 under one light or four."
    outputs = {"surface": Output("surface", "Hillshade", "brightness")}

    def of(self, surface: Surface, params: HillshadeParams) -> Surface:
        return hillshade(surface, Light(params.azimuth, params.altitude, params.lights == "four", params.exaggeration))


@register
class Curved(_Relief[CurvatureParams]):
    """How ground bends."""

    name = "curvature"
    title = "Curvature"
    summary = "Bends in 1/km: above 0 on crests, below 0 in hollows."
    outputs = {"surface": Output("surface", "Curvature", "curvature")}

    def of(self, surface: Surface, params: CurvatureParams) -> Surface:
        return curvature(surface, params.kind)


@register
class Sky(_Relief[SkyParams]):
    """How much sky a place sees."""

    name = "sky"
    title = "Sky view and openness"
    summary = "How much of the sky a place sees: form without a side that light comes from."
    outputs = {"surface": Output("surface", "Sky view", "brightness")}

    def outputs_for(self, params: SkyParams) -> Mapping[str, Output]:
        if params.kind == "sky_view":
            return self.outputs
        return {"surface": Output("surface", "Openness", "openness")}

    def check(self, inputs: Inputs, params: SkyParams, frame: Frame) -> list[Finding]:
        return _too_far(inputs.surface("surface"), params.radius, "the horizon is looked for")

    def of(self, surface: Surface, params: SkyParams) -> Surface:
        return sight(surface, params.radius, params.kind)


@register
class LocalContrast(_Relief[ContrastParams]):
    """How far ground stands out from its surroundings."""

    name = "local_contrast"
    title = "Local contrast"
    summary = "How far ground stands above or below its surroundings: small forms, whatever slope they lie on."
    outputs = {"surface": Output("surface", "Local contrast", "difference")}
    heights_in = "metres"

    def outputs_for(self, params: ContrastParams) -> Mapping[str, Output]:
        quantity: Quantity = "difference" if params.kind == "above_mean" else "contrast"
        return {"surface": replace(self.outputs["surface"], quantity=quantity)}

    def check(self, inputs: Inputs, params: ContrastParams, frame: Frame) -> list[Finding]:
        return _too_far(inputs.surface("surface"), params.radius, "surroundings count")

    def of(self, surface: Surface, params: ContrastParams) -> Surface:
        return contrast(surface, params.radius, params.kind)
