"""Units of height, and surfaces in another."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from pyproj import CRS

from yama.terrain.findings import Finding, Fix
from yama.terrain.grid import Window, horizontal
from yama.terrain.surface import Heights, Over, Surface

UNITS = {"m": 1.0, "ft": 0.3048, "us-ft": 1200 / 3937}
"""Height units and their length in metres: metre, international foot, US survey foot."""
NAMES = {"m": "metres", "ft": "international feet", "us-ft": "US survey feet"}


FEET = re.compile(r"(^|[^a-z])(ft|feet|foot)([^a-z]|$)", re.IGNORECASE)
"""What is in the name of a column that holds feet."""
WORDS = {
    "ft": "ft", "foot": "ft", "feet": "ft", "us survey foot": "us-ft", "us-ft": "us-ft", "ftus": "us-ft", "sft": "us-ft",
    "metre": "m", "meter": "m", "m": "m", "metres": "m", "meters": "m",
}  # fmt: skip
"""Words that files have for units of height."""


def unit_of_metres(length: float) -> str | None:
    """The unit of that length in metres; None where it is none of UNITS. A survey foot is 0.6 micrometres longer than a foot."""
    return next((unit for unit, metres in UNITS.items() if abs(length / metres - 1) < 5e-7), None)


def said_by_crs(crs: CRS) -> tuple[str | None, str | None]:
    """What a CRS says of units: that of heights, from its vertical part or its own third axis, and that of its coordinates over
    the ground, which is not what heights must be in. None where it says nothing, or a unit that is none of UNITS."""
    vertical = next((part for part in crs.sub_crs_list if part.is_vertical), None)
    up = vertical.axis_info[0] if vertical and vertical.axis_info else next(iter(crs.axis_info[2:]), None)
    plain = horizontal(crs)
    ground = plain.axis_info[0].unit_conversion_factor if plain.is_projected and plain.axis_info else 0.0
    return unit_of_metres(up.unit_conversion_factor) if up else None, unit_of_metres(ground) if ground else None


def ask_unit(name: str, ground: str) -> Finding:
    """The question in what heights are, of a file that measures the ground in `ground` and says nothing of heights."""
    return Finding(
        "unit_asked", "stop", f"{name} measures the ground in {NAMES[ground]} and does not say in what its heights are.",
        "Heights in feet are 3.28 times too high when taken as metres.",
        answers=[Fix(f"In {NAMES[ground]}", {"unit": ground}), Fix("In metres", {"unit": "m"})],
    )  # fmt: skip


class InUnit(Over):
    """A surface with its heights in another unit. Raises KeyError where either unit is none of UNITS."""

    def __init__(self, surface: Surface, unit: str) -> None:
        super().__init__(surface, unit=unit)
        self.levels = surface.levels
        self._factor = UNITS[surface.unit] / UNITS[unit]

    def settings(self) -> tuple[Any, ...]:
        return (self.surface.unit,)

    def companion(self, name: str, below: Surface) -> Surface | None:
        return InUnit(below, self.unit) if name == "uncertainty" else below

    def read(self, window: Window, level: int = 0) -> Heights:
        found: Heights = (self.surface.read(window, level).astype(np.float64) * self._factor).astype(np.float32)
        return found


def in_unit(surface: Surface, unit: str) -> Surface:
    """A surface with its heights in another unit.

    Parameters
    ----------
    surface : Surface
        Of heights, or of spreads of them.
    unit : str
        One of `UNITS`.

    Returns
    -------
    Surface
        Itself where its values are in that unit already, or are no heights.
    """
    if surface.unit == unit or surface.unit not in UNITS or unit not in UNITS:
        return surface
    return InUnit(surface, unit)
