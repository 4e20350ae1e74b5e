"""A surface with companions that are made beside it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Window
from yama.terrain.surface.base import Heights, Surface
from yama.terrain.surface.over import Over


class Accompanied(Over):
    """A surface with companions of its own, on the same grid, beside those of the one below."""

    def __init__(self, surface: Surface, **companions: Surface) -> None:
        super().__init__(surface)
        self.levels = surface.levels
        self.encoding = surface.encoding
        self._own = companions

    def settings(self) -> tuple[Any, ...]:
        return ()

    @property
    def companions(self) -> Mapping[str, Surface]:
        return {**self.surface.companions, **self._own}

    def read(self, window: Window, level: int = 0) -> Heights:
        return self.surface.read(window, level)

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        return self.surface.read_exact(window)


class OnlyWhere(Over):
    """A companion, made empty wherever its surface is empty. Resampled in different ways, the two would end at different cells."""

    def __init__(self, companion: Surface, surface: Surface) -> None:
        super().__init__(companion)
        self._beside = surface

    def settings(self) -> tuple[Any, ...]:
        return (self._beside.fingerprint,)

    def read(self, window: Window, level: int = 0) -> Heights:
        cells = self.surface.read(window, level)
        return np.where(np.isnan(self._beside.read(window, level)), np.float32(np.nan), cells)
