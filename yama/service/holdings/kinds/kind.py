"""What every kind of holding has in the service."""

from __future__ import annotations

from abc import ABC, abstractmethod
from pathlib import Path
from typing import Any, ClassVar

from ninja.errors import HttpError

from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.terrain.files import put_in_place
from yama.terrain.frame import Extent
from yama.terrain.grid import Bounds
from yama.terrain.held import Held
from yama.terrain.kinds import KINDS, Kept, KindName


class HoldingKind(ABC):
    """One kind of holding: how it is loaded, told and kept. The core's kind of that name says what it is in memory.

    Attributes
    ----------
    name : str
        As the core has it.
    none : str
        What is said where something else is asked for as one.
    folder : str
        Of its files in a package.
    """

    name: ClassVar[KindName]
    none: ClassVar[str]
    folder: ClassVar[str]

    @property
    def title(self) -> str:
        """In a sentence, in the plural."""
        return KINDS[self.name].title

    @abstractmethod
    def load(self, holding: Holding) -> Held:
        """What is held, as the core knows it; of a stored surface only, since a live one is computed from others."""

    def facts(self, holding: Holding, project: Project) -> dict[str, Any]:
        """What is told of it beside what is told of every holding."""
        return dict(holding.facts)

    def box(self, holding: Holding) -> tuple[str, Bounds] | None:
        """The rectangle around it and the CRS of that; None where it lies nowhere."""
        return holding.facts["crs"], Bounds(*holding.facts["bounds"])

    def extent(self, holding: Holding) -> Extent:
        """Where it lies and how fine it is."""
        box = self.box(holding)
        assert box is not None
        return Extent(holding.name, *box)

    @abstractmethod
    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        """Move what was made in `folder` into place, and note facts. The row is saved by the caller, but where the kind is kept in
        rows."""

    @abstractmethod
    def known(self, holding: Holding) -> str:
        """In a line, what is in it."""

    def is_judgeable(self, holding: Holding) -> bool:
        """Whether it has heights whose errors at checkpoints can be told."""
        return False

    def require(self, holding: Holding) -> None:
        """Refuse a holding of another kind."""
        if holding.kind != self.name:
            raise HttpError(422, f"{holding.name} {self.none}.")


def moved(made: Path, place: Path) -> None:
    """Put a file that was made into its place, where it was made."""
    if made.exists():
        put_in_place(made, place)


def grouped(count: int) -> str:
    """A number as people read it."""
    return f"{count:,}".replace(",", "\u202f")
