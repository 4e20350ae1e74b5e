"""What every kind of thing that can be held has."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Generic, Literal, TypeVar

from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.held import Held
from yama.terrain.progress import Progress
from yama.terrain.surface import Statistics
from yama.terrain.voids import Holes

KindName = Literal["surface", "points", "features", "cloud", "image", "picture", "table"]
T = TypeVar("T", bound=Held)


@dataclass
class Kept:
    """What is kept of a file that was taken in, beside the files in its folder.

    Parameters
    ----------
    kind : str
        Of what it holds.
    facts : dict
        What is known of it, as plain JSON values.
    findings : list of Finding
        About it; they stand in `facts` too where the kind has them there.
    statistics : Statistics, optional
        Of a surface.
    holes : Holes, optional
        Of a surface.
    features : Features, optional
        Of lines and polygons, which are kept in rows and not in a file.
    file : dict
        What is known of a raster's own file.
    """

    kind: KindName
    facts: dict[str, Any]
    findings: list[Finding]
    statistics: Statistics | None = None
    holes: Holes | None = None
    features: Features | None = None
    file: dict[str, Any] = field(default_factory=dict)


class Kind(ABC, Generic[T]):
    """One kind of thing that can be held: its type, and how it is written, placed and kept.

    Attributes
    ----------
    name : str
        In roles, recipes and rows.
    title : str
        In a sentence, in the plural.
    holds : type
        What it is in memory.
    suffixes : tuple of str
        Of the files it is written as, the usual one first; none where it is given away as it came.
    """

    name: ClassVar[KindName]
    title: ClassVar[str]
    holds: ClassVar[type[Any]]
    suffixes: ClassVar[tuple[str, ...]] = ()

    @abstractmethod
    def write(self, held: T, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        """Write it in the format that the suffix names, whole or not at all. Raises InputError for another suffix."""

    @abstractmethod
    def extent(self, held: T, name: str, meant: bool) -> Extent:
        """Where it lies and how fine it is. meant: its polygons say which area is meant."""

    def keep(self, held: T, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        """Put what is kept of a file of this kind into `folder`, beside the file itself. frame_crs: of what is made for the map."""
        return Kept(self.name, looked.facts, looked.findings)
