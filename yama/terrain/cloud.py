"""Point clouds: too many points to hold at once, so a cloud is its file and what is known of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Bounds, Grid
from yama.terrain.progress import Progress


@dataclass(frozen=True)
class Cloud:
    """A LAS or LAZ file as declared. unit: of the heights in it. bounds: in its CRS, as its header says. within: lowest x, y and
    height and highest of them, in its units; points outside do not count. None where all do."""

    path: Path
    crs: str
    unit: str
    count: int
    bounds: Bounds
    name: str
    within: tuple[float, ...] | None = None


class Classifier(Protocol):
    """What gives points classes."""

    def prepare(self, progress: Progress) -> None:
        """Whatever must be known before the first point is asked for."""

    def classes(self, chunk: Any) -> npt.NDArray[np.uint8]:
        """The class of each of some points, as laspy has them."""


@dataclass(frozen=True)
class Reclassified:
    """A cloud as it will be with classes from a classifier: nothing of it is made before it is written."""

    cloud: Cloud
    classifier: Classifier

    @property
    def crs(self) -> str:
        """As the cloud has it."""
        return self.cloud.crs

    @property
    def unit(self) -> str:
        """Of its heights."""
        return self.cloud.unit


@dataclass(frozen=True)
class Gathered:
    """Points that an operation found, held until they are written, `(n,)` each.

    Parameters
    ----------
    grid : Grid
        In whose columns and rows they lie; its CRS is theirs.
    col, row : ndarray of float32
        Whole numbers at the middle of cells.
    z : ndarray of float32
    unit : str
        Of heights.
    more : dict of str to ndarray of float32
        What else is known of each point, by name.
    """

    grid: Grid
    col: npt.NDArray[np.float32]
    row: npt.NDArray[np.float32]
    z: npt.NDArray[np.float32]
    unit: str
    more: dict[str, npt.NDArray[np.float32]]

    @property
    def crs(self) -> str:
        """The grid's."""
        return self.grid.crs


NewCloud = Reclassified | Gathered
"""A cloud that is no file yet."""
