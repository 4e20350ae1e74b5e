"""Slope, aspect and hillshade as operations."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from yama.terrain.frame import Frame
from yama.terrain.operations.base import Inputs, Operation, Params, Role, register
from yama.terrain.relief.slope import aspect, hillshade, slope
from yama.terrain.surface import Surface

_SURFACE = {"surface": Role("surface", "Surface")}


class NoParams(Params):
    """Nothing to set."""


class HillshadeParams(Params):
    """Where the light stands."""

    azimuth: float = Field(315.0, ge=0, le=360, description="Clockwise from north.", json_schema_extra={"unit": "°"})
    altitude: float = Field(45.0, gt=0, le=90, description="Above the horizon.", json_schema_extra={"unit": "°"})
    exaggeration: float = Field(1.0, gt=0, le=100, description="Heights are multiplied by this first.")


@register
class Slope(Operation):
    """Steepness of a surface."""

    name = "slope"
    quantity = "slope"
    title = "Slope"
    stage = "Deliver"
    summary = "Steepness in degrees, from each cell's eight neighbours."
    inputs = _SURFACE
    Params = NoParams

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        surface = inputs["surface"]
        assert isinstance(surface, Surface)
        return slope(surface)


@register
class Aspect(Operation):
    """Direction of fall of a surface."""

    name = "aspect"
    quantity = "aspect"
    title = "Aspect"
    stage = "Deliver"
    summary = "Direction of fall in degrees clockwise from north; level cells are empty."
    inputs = _SURFACE
    Params = NoParams

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        surface = inputs["surface"]
        assert isinstance(surface, Surface)
        return aspect(surface)


@register
class Hillshade(Operation):
    """A surface lit from one side."""

    name = "hillshade"
    quantity = "brightness"
    title = "Hillshade"
    stage = "Deliver"
    summary = "Brightness from 0 to 1 under one light."
    inputs = _SURFACE
    Params = HillshadeParams

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        surface = inputs["surface"]
        assert isinstance(surface, Surface)
        return hillshade(surface, params.azimuth, params.altitude, params.exaggeration)
