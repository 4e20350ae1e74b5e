"""What shows the form of ground, as operations: slope, aspect, hillshade, curvature, sky-view factor and openness."""

from __future__ import annotations

import math
from typing import Any, Literal

from pydantic import Field

from yama.terrain.findings import Finding, Mend
from yama.terrain.formats import Held
from yama.terrain.frame import Frame
from yama.terrain.operations.base import Inputs, Operation, Params, Quantity, Role, register
from yama.terrain.relief.contrast import Contrast, contrast
from yama.terrain.relief.curvature import Curvature, curvature, zevenbergen_thorne_slope
from yama.terrain.relief.sky import MOST_CELLS, Sight, sight
from yama.terrain.relief.slope import Light, aspect, hillshade, slope
from yama.terrain.surface import Surface


class NoParams(Params):
    """Nothing to set."""


class SlopeParams(Params):
    """How steepness is read off the neighbours."""

    method: Literal["horn", "zevenbergen_thorne"] = Field(
        "horn", description="Horn: from eight neighbours, smoother. Zevenbergen and Thorne: from four, sharper."
    )


class HillshadeParams(Params):
    """Where the light stands."""

    azimuth: float = Field(315.0, ge=0, le=360, description="Clockwise from north.", json_schema_extra={"unit": "°"})
    altitude: float = Field(45.0, gt=0, le=90, description="Above the horizon.", json_schema_extra={"unit": "°"})
    exaggeration: float = Field(1.0, gt=0, le=100, description="Heights are multiplied by this first.")
    lights: Literal["one", "four"] = Field(
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
    radius: float = Field(
        60.0, gt=0, le=10_000, description="How far the horizon is looked for.", json_schema_extra={"unit": "m"}
    )


class ContrastParams(Params):
    """What ground is compared with."""

    kind: Contrast = Field(
        "above_mean", description="Height above the mean around a place, or the same in standard deviations around it."
    )
    radius: float = Field(
        60.0,
        gt=0,
        le=10_000,
        description="How far around a place; what is near weighs most.",
        json_schema_extra={"unit": "m"},
    )


def _too_far(surface: Held | list[Held], radius: float, what: str) -> list[Finding]:
    """A caution where a radius spans more cells than are looked at."""
    assert isinstance(surface, Surface)
    cell = min(surface.grid.metres_per_cell())
    if radius <= MOST_CELLS * cell:
        return []
    most = math.floor(MOST_CELLS * cell)
    return [Finding("radius", "caution", f"A radius of {radius:g} m spans more than {MOST_CELLS} cells of {cell:.3g} m; "
                    f"{what} within {most} m.", "", Mend(f"Take {most} m", {"radius": most}))]  # fmt: skip


class _Relief(Operation):
    """Something about one surface's form."""

    stage = "Deliver"
    inputs = {"surface": Role("surface", "Surface")}

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        surface = inputs["surface"]
        assert isinstance(surface, Surface)
        return self.of(surface, params)

    def of(self, surface: Surface, params: Any) -> Surface:
        """The live surface."""
        raise NotImplementedError


@register
class Slope(_Relief):
    """Steepness of a surface."""

    name = "slope"
    quantity = "slope"
    title = "Slope"
    summary = "Steepness in degrees, from each cell's neighbours."
    Params = SlopeParams

    def of(self, surface: Surface, params: Any) -> Surface:
        return slope(surface) if params.method == "horn" else zevenbergen_thorne_slope(surface)


@register
class Aspect(_Relief):
    """Direction of fall of a surface."""

    name = "aspect"
    quantity = "aspect"
    title = "Aspect"
    summary = "Direction of fall in degrees clockwise from north; level cells are empty."
    Params = NoParams

    def of(self, surface: Surface, params: Any) -> Surface:
        return aspect(surface)


@register
class Hillshade(_Relief):
    """A surface lit from one side or from several."""

    name = "hillshade"
    quantity = "brightness"
    title = "Hillshade"
    summary = "Brightness from 0 to 1 under one light or four."
    Params = HillshadeParams

    def of(self, surface: Surface, params: Any) -> Surface:
        return hillshade(surface, Light(params.azimuth, params.altitude, params.lights == "four", params.exaggeration))


@register
class Curved(_Relief):
    """How ground bends."""

    name = "curvature"
    quantity = "curvature"
    title = "Curvature"
    summary = "Bends in 1/km: above 0 on crests, below 0 in hollows."
    Params = CurvatureParams

    def of(self, surface: Surface, params: Any) -> Surface:
        return curvature(surface, params.kind)


@register
class Sky(_Relief):
    """How much sky a place sees."""

    name = "sky"
    title = "Sky view and openness"
    summary = "How much of the sky a place sees: form without a side that light comes from."
    Params = SkyParams

    def quantity_of(self, params: Any) -> Quantity:
        return "brightness" if params.kind == "sky_view" else "openness"

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        return _too_far(inputs["surface"], params.radius, "the horizon is looked for")

    def of(self, surface: Surface, params: Any) -> Surface:
        return sight(surface, params.radius, params.kind)


@register
class LocalContrast(_Relief):
    """How far ground stands out from its surroundings."""

    name = "local_contrast"
    title = "Local contrast"
    summary = "How far ground stands above or below its surroundings: small forms, whatever slope they lie on."
    Params = ContrastParams
    heights_in = "metres"

    def quantity_of(self, params: Any) -> Quantity:
        return "difference" if params.kind == "above_mean" else "contrast"

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        return _too_far(inputs["surface"], params.radius, "surroundings count")

    def of(self, surface: Surface, params: Any) -> Surface:
        return contrast(surface, params.radius, params.kind)
