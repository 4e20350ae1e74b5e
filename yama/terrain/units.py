"""Units of height, and surfaces in another."""

from __future__ import annotations

import numpy as np

from yama.terrain.grid import Window
from yama.terrain.surface import Heights, Surface

UNITS = {"m": 1.0, "ft": 0.3048, "us-ft": 1200 / 3937}
"""Height units and their length in metres: metre, international foot, US survey foot."""
NAMES = {"m": "metres", "ft": "international feet", "us-ft": "US survey feet"}


class InUnit(Surface):
    """A surface with its heights in another unit. Raises KeyError where either unit is none of UNITS."""

    def __init__(self, surface: Surface, unit: str) -> None:
        super().__init__(surface.grid, unit, surface.vertical_datum)
        self.surface = surface
        self.by_parts = surface.by_parts
        self.fingerprint = surface.fingerprint and ("in", unit, surface.fingerprint)
        self._factor = UNITS[surface.unit] / UNITS[unit]

    @property
    def seconds(self) -> float | None:
        return self.surface.seconds

    def read(self, window: Window, level: int = 0) -> Heights:
        found: Heights = (self.surface.read(window, level).astype(np.float64) * self._factor).astype(np.float32)
        return found


def in_unit(surface: Surface, unit: str) -> Surface:
    """The surface with its heights in `unit`; itself where they are already, or where its cells say something else than
    heights or spreads of them."""
    if surface.unit == unit or surface.unit not in UNITS or unit not in UNITS:
        return surface
    return InUnit(surface, unit)
