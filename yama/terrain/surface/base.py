"""The contract of a surface: values on a grid, read by window."""

from __future__ import annotations

import hashlib
import pickle
import threading
import uuid
from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Literal, Protocol

import numpy as np
import numpy.typing as npt

from yama.terrain.cog import FLOATS, Encoding
from yama.terrain.findings import Finding
from yama.terrain.grid import Bounds, FloatArray, Grid, Window
from yama.terrain.progress import Progress, ignore_progress

Heights = npt.NDArray[np.float32]
Levels = Literal["means", "same"]

_ANEW: dict[type, Any] = {type(threading.Lock()): threading.Lock, threading.local: threading.local}
_NONE: Mapping[str, Any] = MappingProxyType({})


@dataclass(frozen=True)
class Category:
    """One value of a surface of categories.

    Parameters
    ----------
    value : int
        The cell value.
    name : str
        What it stands for.
    colour : str
        How it is drawn, as ``#RRGGBB``; chosen by place where empty.
    inputs : tuple of int
        In a companion called ``source``: the places, counted from 0, of the inputs that it stands for.
    """

    value: int
    name: str
    colour: str = ""
    inputs: tuple[int, ...] = ()


class Facets(Protocol):
    """Flat facets that a surface consists of, and that can be shown."""

    def edges(self, bounds: Bounds, most: int) -> tuple[FloatArray, npt.NDArray[np.uint8], int]:
        """Sides of the facets that reach into a rectangle; see `interpolate.triangulation.FacetSurface`."""


class Surface(ABC):
    """Values on a grid.

    Parameters
    ----------
    grid : Grid
        The cells at level 0.
    unit : str
        Of the values: for heights one of ``units.UNITS``.
    vertical_datum : str
        What height 0 means, as far as it is known.

    Attributes
    ----------
    by_parts : bool
        Whole parts are computed when first looked at; after that, reading a cell of them costs nothing more.
    encoding : Encoding
        What cells are written as when the surface is stored, unless told otherwise.
    categories : tuple of Category
        What values stand for, where cells hold categories and not quantities.
    name : str
        What people call it, where it has a name; no part of what it is.
    levels : {"same", "means"}
        What a coarser level is. ``"means"``: each cell is the mean of the 2 x 2 cells below it that are not empty. ``"same"``: the
        same computation on the coarser cells, so that a view costs what its screen costs; it differs from the means.
    """

    by_parts: bool = False
    encoding: Encoding = FLOATS
    categories: tuple[Category, ...] = ()
    levels: Levels = "same"

    def __init__(self, grid: Grid, unit: str = "m", vertical_datum: str = "") -> None:
        self.grid = grid
        self.unit = unit
        self.vertical_datum = vertical_datum
        self.name = ""
        self._fingerprint = ""

    def __getstate__(self) -> dict[str, Any]:
        """Without locks and open files: another process has its own."""
        return {name: _ANEW.get(type(value), value) for name, value in vars(self).items()}

    def __setstate__(self, state: dict[str, Any]) -> None:
        anew = tuple(_ANEW.values())
        for name, value in state.items():
            setattr(self, name, value() if any(value is one for one in anew) else value)

    @property
    def fingerprint(self) -> str:
        """What the surface is, the same in every process: two surfaces with one fingerprint have the same cells."""
        if not self._fingerprint:
            self._fingerprint = digest(type(self).__name__, self.grid, self.unit, self.vertical_datum, *self.made_of())
        return self._fingerprint

    @abstractmethod
    def made_of(self) -> tuple[Any, ...]:
        """All that its cells depend on beside grid, unit and vertical datum: plain values, arrays, fingerprints of inputs."""

    @property
    def companions(self) -> Mapping[str, Surface]:
        """Surfaces on the same grid that say more of each cell: ``source`` (categories: which input it came from) and
        ``uncertainty`` (one standard deviation, in the unit of the heights). Only what is true is there."""
        return _NONE

    @property
    def cost(self) -> float | None:
        """Seconds that one core takes for all cells, where looking at a few does not tell; None where it does."""
        return None

    @property
    def facets(self) -> Facets | None:
        """The facets that its heights are read from, where it consists of such."""
        return None

    @property
    def exact(self) -> Surface | None:
        """What it is a quick stand-in for; None where it is none."""
        return None

    @property
    def findings(self) -> list[Finding]:
        """What computing its cells showed that its inputs did not. Complete once all cells have been read."""
        return []

    def prepare(self, progress: Progress = ignore_progress) -> None:  # noqa: B027  most need nothing
        """Compute what needs the whole grid before the first cell can be told. `read` does so itself where nobody did; jobs,
        `store` and previews call this, so that it has progress and can be cancelled."""

    @abstractmethod
    def read(self, window: Window, level: int = 0) -> Heights:
        """Values of a window.

        Parameters
        ----------
        window : Window
            Rows and columns of the level; it may reach past the grid.
        level : int
            Level n has cells of 2**n x 2**n cells of level 0.

        Returns
        -------
        numpy.ndarray
            float32 `(window.rows, window.cols)`, NaN where empty and outside the grid.
        """

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        """Values of a window of level 0 in as many digits as there are: float32, or float64 where float32 does not hold them.
        NaN where empty."""
        return self.read(window)

    def read_all(self) -> Heights:
        """All cells at once; for small surfaces only."""
        return self.read(self.grid.whole)


def digest(*told: Any) -> str:
    """A hash of plain values, arrays and data classes of them; equal pickles are taken for the same."""
    return hashlib.sha256(pickle.dumps(told, 5)).hexdigest()[:32]


def unlike_any() -> tuple[Any, ...]:
    """For `made_of`, where what the cells depend on cannot be told: equal to no other, so that nothing is taken for it."""
    return ("unlike any", uuid.uuid4().hex)


# -- small array helpers -----------------------------------------------------------------------------------------------------


def cut_out(heights: Heights, window: Window) -> Heights:
    """A copy of a window of an array.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        All cells of a level.
    window : Window
        It may reach past the array.

    Returns
    -------
    ndarray, shape (window.rows, window.cols)
        NaN where the window reaches past the array.
    """
    rows, cols = heights.shape
    inside = window.clipped(rows, cols)
    part = heights[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols]
    if inside == window:
        return part.copy()
    result = np.full((window.rows, window.cols), np.nan, heights.dtype)
    put_in(result, part, inside.row - window.row, inside.col - window.col)
    return result


def put_in(target: Heights, part: Heights, row: int, col: int) -> None:
    """Copy `part`, shape (rows, cols), into `target`, with its first cell at (row, col). It must fit."""
    target[row : row + part.shape[0], col : col + part.shape[1]] = part
