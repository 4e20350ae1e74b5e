"""A look as the desk sends it."""

from __future__ import annotations

from ninja import Field, Schema

from yama.terrain.relief.dress import Dress
from yama.terrain.relief.slope import Light
from yama.terrain.relief.tone import Shade


class DressIn(Schema):
    """How a surface is dressed: stops of the ramp as places from 0 to 1 with colours #RRGGBB, the values at its ends, and the
    light. strength: of the relief, 1 is usual. lit: whether there is relief at all. shade: what darkens colours beside the light;
    depth: how much, 1 is usual."""

    stops: list[tuple[float, str]] = Field(min_length=2, max_length=80)
    low: float
    high: float
    azimuth: float = Field(315.0, ge=0, le=360)
    altitude: float = Field(45.0, gt=0, le=90)
    several: bool = False
    exaggeration: float = Field(1.0, gt=0, le=100)
    strength: float = Field(1.0, ge=0, le=2)
    lit: bool = True
    shade: Shade = "none"
    depth: float = Field(1.0, ge=0, le=2)

    def dress(self, unit: str) -> Dress:
        """As the core takes it; low and high are in `unit`. Raises InputError for stops out of order or ends the wrong way round."""
        light = Light(self.azimuth, self.altitude, self.several, self.exaggeration)
        return Dress(
            tuple(self.stops), self.low, self.high, light, self.strength, self.lit, unit, self.shade, self.depth
        )
