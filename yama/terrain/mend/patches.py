"""Patches: areas of a surface that an operator changes, as data that can be done again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Self

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field
from pyproj import Transformer
from shapely.validation import explain_validity

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, parse_crs
from yama.terrain.mend.operators import AnyOperator

MOST = 10_000
"""Patches of a stack."""

Places = Annotated[list[tuple[float, float]], Field(max_length=100_000)]


class _Drawn(BaseModel):
    """Something drawn on a surface: a ring of places, or a line with a width in metres. Over a surface places are in
    its CRS; `turned` brings them there."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    name: str = Field("", max_length=120)
    ring: Places | None = None
    line: Places | None = None
    width: float = Field(10.0, gt=0, le=10_000, title="Width", json_schema_extra={"unit": "m"})

    def outline(self, grid: Grid) -> shapely.Polygon:
        """The area. Raises InputError where it is none."""
        called = f"The outline of {self.name}" if self.name else "The outline"
        if (self.ring is None) == (self.line is None):
            raise InputError(f"{called} must be a ring or a line with a width.")
        if self.line is not None:
            if len(self.line) < 2 or self.course is None:
                raise InputError(f"{called} needs a line of at least two different places.")
            across, up = grid.metres_per_unit()
            wide = self.width / float(np.sqrt(across * up)) / 2
            found = shapely.LineString(self.line).buffer(wide, cap_style="flat")
        else:
            if len(self.ring or ()) < 3:
                raise InputError(f"{called} has {len(self.ring or ())} vertices; an area needs three.")
            found = shapely.Polygon(self.ring)
            if not found.is_valid:
                raise InputError(f"{called} crosses itself ({explain_validity(found)}). Move a vertex there.")
        if not isinstance(found, shapely.Polygon) or found.area == 0:
            raise InputError(f"{called} covers nothing.")
        return found

    def turned(self, crs: str, grid: Grid) -> Self:
        """The same with its places, which are in `crs`, in the CRS of a grid."""
        given, wanted = parse_crs(crs), parse_crs(grid.crs)
        if given == wanted:
            return self
        turn = Transformer.from_crs(given, wanted, always_xy=True)

        def moved(places: list[tuple[float, float]] | None) -> list[tuple[float, float]] | None:
            if not places:
                return places
            x, y = turn.transform(*np.array(places, np.float64).T)
            return list(zip(np.asarray(x).tolist(), np.asarray(y).tolist(), strict=True))

        return self.model_copy(update={"ring": moved(self.ring), "line": moved(self.line)})

    @property
    def course(self) -> FloatArray | None:
        """The line, `(n, 2)`, without places that repeat the one before; None where there is none."""
        if self.line is None:
            return None
        places = np.array(self.line, np.float64).reshape(-1, 2)
        kept = np.append(True, np.any(np.diff(places, axis=0) != 0, axis=1)) if len(places) else np.zeros(0, np.bool_)
        return places[kept] if kept.sum() > 1 else None


class Patch(_Drawn):
    """An area and what is done to it.

    Parameters
    ----------
    on : bool
        Whether it counts.
    note : str
        Of people, for people.
    feather : float
        Metres inside the border over which it begins to count.
    strength : float
        Share of the change that is made.
    times : int
        How often it is applied.
    over_keep_outs : bool
        Whether it changes cells of keep-outs too.
    operator : operator
        See `operators`.
    """

    on: bool = True
    note: str = Field("", max_length=1000)
    feather: float = Field(
        0.0,
        ge=0,
        le=10_000,
        title="Feather",
        description="Width inside the border over which it begins to count.",
        json_schema_extra={"unit": "m"},
    )
    strength: float = Field(1.0, gt=0, le=1, title="Strength")
    times: int = Field(1, ge=1, le=20, title="Apply again")
    over_keep_outs: bool = Field(False, title="Over keep-outs too")
    operator: AnyOperator


class KeepOut(_Drawn):
    """An area that no patch changes, unless it says so. real: it was drawn around something suspect that is real, so
    that it is suspected no more."""

    real: bool = False


def outlines(drawn: Sequence[_Drawn], grid: Grid) -> list[shapely.Polygon]:
    """The areas of several. Raises InputError at the first that is none."""
    return [one.outline(grid) for one in drawn]
