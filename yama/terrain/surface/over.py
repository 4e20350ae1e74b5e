"""A surface over another one: the base of all that change its cells but not what they are."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping
from typing import Any

from yama.terrain.findings import Finding
from yama.terrain.grid import Grid
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Facets, Surface


class Over(Surface):
    """A surface over another. It has the other's unit and vertical datum, its companions, parts, cost, facets and
    findings; how its cells are written as well where it has a `read_exact` of its own.

    Parameters
    ----------
    surface : Surface
        The one below.
    grid : Grid, optional
        Its own, where it is not that of the one below.
    unit : str, optional
        Its own, where it is not that of the one below.
    """

    def __init__(self, surface: Surface, grid: Grid | None = None, unit: str | None = None) -> None:
        super().__init__(grid or surface.grid, surface.unit if unit is None else unit, surface.vertical_datum)
        self.surface = surface
        self.name = surface.name
        self.by_parts = surface.by_parts
        # whole numbers and many digits are only kept where cells are handed on as they are
        if surface.encoding.is_exact and type(self).read_exact is not Surface.read_exact:
            self.encoding = surface.encoding
        self.categories = surface.categories

    def made_of(self) -> tuple[Any, ...]:
        return (*self.settings(), self.surface.fingerprint)

    @abstractmethod
    def settings(self) -> tuple[Any, ...]:
        """What it does to the one below, for the fingerprint."""

    @property
    def companions(self) -> Mapping[str, Surface]:
        held = {name: self.companion(name, one) for name, one in self.surface.companions.items()}
        return {name: one for name, one in held.items() if one is not None}

    def companion(self, name: str, below: Surface) -> Surface | None:
        """What the companion of that name of the surface below becomes; None where nothing true can be said."""
        return None

    @property
    def cost(self) -> float | None:
        return self.surface.cost

    @property
    def facets(self) -> Facets | None:
        return self.surface.facets

    @property
    def exact(self) -> Surface | None:
        return self.surface.exact

    @property
    def findings(self) -> list[Finding]:
        return self.surface.findings

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self.surface.prepare(progress)
