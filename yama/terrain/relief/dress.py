"""How a surface is dressed: colours along a ramp over a range of values, under relief from one light or several.

The map draws the same on the GPU (web/src/map/style.ts); pictures, reports and services draw it here.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.quantities import QUANTITIES, Quantity
from yama.terrain.ramps import RAMPS, Stop, colours
from yama.terrain.relief.slope import Light, hillshade_of
from yama.terrain.relief.tone import REACH, Shade, rise_at, tone_of
from yama.terrain.relief.tone import STRENGTH as TONE_STRENGTH
from yama.terrain.surface import Heights

_COLOUR = re.compile(r"#[0-9a-fA-F]{6}")
_MOST_STOPS = 80
_STRENGTH = 0.78
"""How much brighter or darker than level ground full light makes a colour."""


@dataclass(frozen=True)
class Dress:
    """stops: places from 0 to 1 with their colours, from the lowest value. low, high: values at the ends; None for nearly all that
    is there. lit: whether relief shades the colours; strength: how much, 1 is usual. unit: of heights dressed so; their own where
    empty. shade: what darkens and brightens lit colours beside the light; depth: how much, 1 is usual."""

    stops: tuple[Stop, ...]
    low: float | None = None
    high: float | None = None
    light: Light = field(default_factory=Light)
    strength: float = 1.0
    lit: bool = True
    unit: str = ""
    shade: Shade = "none"
    depth: float = 1.0

    def __post_init__(self) -> None:
        places = [place for place, _ in self.stops]
        if not 1 < len(self.stops) <= _MOST_STOPS or places != sorted(places) or places[0] < 0 or places[-1] > 1:
            raise InputError(f"A ramp has 2 to {_MOST_STOPS} stops from 0 to 1, in order.")
        if not all(_COLOUR.fullmatch(colour) for _, colour in self.stops):
            raise InputError("A ramp's colours are written #RRGGBB.")
        ends = [value for value in (self.low, self.high) if value is not None]
        if not all(math.isfinite(value) for value in (*ends, self.strength, self.depth)) or (
            len(ends) == 2 and ends[0] > ends[1]
        ):
            raise InputError("A ramp's lower end must be a number below its upper end.")

    @classmethod
    def usual(cls, quantity: Quantity, span: tuple[float, float] | None = None) -> Dress:
        """The look of a quantity where nobody chose one."""
        facts = QUANTITIES[quantity]
        low, high = (facts.span if facts.categorical else span) or (None, None)
        return cls(RAMPS[facts.ramp], low, high, lit=facts.lit)

    @property
    def halo(self) -> int:
        """Rings of cells around what is painted that it needs."""
        return REACH if self.lit and self.shade != "none" else 1

    @property
    def gradient(self) -> str:
        """The colours from left to right, for a style sheet."""
        return ", ".join(f"{colour} {at * 100:.1f}%" for at, colour in self.stops)

    def ends(self, heights: Heights) -> tuple[float, float]:
        """Values at the ends of the ramp for these heights, not all of them NaN."""
        if self.low is not None and self.high is not None:
            return self.low, self.high
        low, high = np.quantile(heights[~np.isnan(heights)], [0.005, 0.995])
        return (float(low) if self.low is None else self.low, float(high) if self.high is None else self.high)

    def paint(self, heights: Heights, grid: Grid, metres: float = 1.0) -> npt.NDArray[np.float32]:
        """Red, green and blue from 0 to 255 `(rows, cols, 3)` of heights on `grid` without their outer rings, `halo` of them; NaN
        where empty. metres: length of their unit."""
        halo = self.halo
        inner = heights[halo:-halo, halo:-halo]
        if np.isnan(inner).all():
            return np.full((*inner.shape, 3), np.nan, np.float32)
        low, high = self.ends(inner)
        painted = colours(self.stops, np.clip((inner - low) / max(high - low, 1e-6), 0, 1))
        if self.lit and self.strength > 0:
            # relief as strong in a small picture of a wide area as near by
            rise = metres * self.light.exaggeration * rise_at(grid.cell_width)
            light = hillshade_of(
                heights, grid, Light(self.light.azimuth, self.light.altitude, self.light.several, rise)
            )
            light = light[halo - 1 : light.shape[0] - halo + 1, halo - 1 : light.shape[1] - halo + 1]
            level = math.sin(math.radians(self.light.altitude))
            painted *= np.maximum(1 + self.strength * _STRENGTH * (light - level), 0)[..., None]
        if self.lit and self.shade != "none":
            tones = tone_of(heights * np.float32(metres), grid, self.shade)
            painted *= np.maximum(1 + self.depth * TONE_STRENGTH * tones, 0)[..., None]
        return np.clip(painted, 0, 255)
