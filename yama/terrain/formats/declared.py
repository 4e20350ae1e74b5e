"""What a technician says about a file that the file does not say itself, or says wrongly."""

from __future__ import annotations

import hashlib
import json
import math
from dataclasses import dataclass, fields
from typing import Any, Literal

from yama.terrain.errors import InputError
from yama.terrain.formats.straight import CODES, Coded, tile_place
from yama.terrain.grid import parse_crs
from yama.terrain.units import UNITS


def is_kind(name: str, value: Any) -> bool:
    """Whether a value is of the kind that a declaration takes."""
    if name in ("place", "within"):
        return value is None or (isinstance(value, list) and all(type(one) in (int, float) for one in value))
    if name == "layout":
        return value is None or isinstance(value, dict)
    if name == "nodata":
        return value is None or type(value) in (int, float)
    return type(value) is {"band": int, "grid": bool, "picture": bool}.get(name, str)


@dataclass(frozen=True)
class Declared:
    """Declarations about one file; each default means that the file's own word counts.

    crs: its coordinates' CRS. unit: of its heights, one of UNITS. vertical_datum: what zero means in a raster. nodata: a further cell value that means empty.
    swap: exchange x and y of `suspected` points or of `all`. leave_out: points far from the rest (`strays`).
    layout: how a table is read, as `Layout.to_dict`. grid: take a table of regular points as a surface. layer: of a
    file with several. rpc: text of rational polynomial coefficients that came beside an image. band: of a raster with several,
    from 1. picture: a raster holds no heights, but is to be looked at. coded: how heights stand in red, green and blue, see `straight.CODES`. place: where a raster's cells lie, as six numbers
    a, b, c, d, e, f with x = a col + b row + c and y = d col + e row + f of corners. tile: of the usual web map scheme, as
    zoom/column/row. height: name of the column or attribute that holds heights, `-` where nothing does. within: lowest x, y and
    height of a cloud's points that count and highest of them, in the file's units.
    """

    crs: str = ""
    unit: str = ""
    nodata: float | None = None
    swap: Literal["", "suspected", "all"] = ""
    leave_out: Literal["", "strays"] = ""
    layout: dict[str, Any] | None = None
    grid: bool = False
    layer: str = ""
    rpc: str = ""
    vertical_datum: str = ""
    band: int = 0
    coded: Coded = ""
    place: list[float] | None = None
    tile: str = ""
    height: str = ""
    within: list[float] | None = None
    picture: bool = False

    def __post_init__(self) -> None:
        if self.crs:
            parse_crs(self.crs)
        if self.unit and self.unit not in UNITS:
            raise InputError(f"{self.unit!r} is not a height unit known here. Choose one of: {', '.join(UNITS)}.")
        if len(self.vertical_datum) > 120:
            raise InputError("What zero means is said in at most 120 characters.")
        if self.band < 0:
            raise InputError("Bands are counted from 1.")
        if self.coded not in ("", *CODES):
            raise InputError(f"Heights coded in colours are one of: {', '.join(CODES)}.")
        if self.place is not None and not (len(self.place) == 6 and all(map(math.isfinite, self.place))
                                           and self.place[0] * self.place[4] != self.place[1] * self.place[3]):  # fmt: skip
            raise InputError("Where cells lie is said by six numbers that span an area.")
        if self.within is not None and not (len(self.within) == 6 and all(map(math.isfinite, self.within))
                                            and all(self.within[i] < self.within[i + 3] for i in range(3))):  # fmt: skip
            raise InputError("Limits of a cloud are its lowest x, y and height, then its highest of them.")
        if self.tile:
            tile_place(self.tile, 1)
        if self.swap not in ("", "suspected", "all") or self.leave_out not in ("", "strays"):
            raise InputError("Points can have x and y exchanged where suspected or for all, and strays left out.")

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values of what differs from the defaults."""
        return {each.name: value for each in fields(self) if (value := getattr(self, each.name)) != each.default}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Declared:
        """The inverse of `to_dict`. Raises InputError for anything else."""
        known = {each.name for each in fields(cls)}
        if strange := set(data) - known:
            raise InputError(f"Nothing can be declared about {', '.join(sorted(strange))}.")
        if not isinstance(data.get("nodata", 0), (int, float, type(None))):
            raise InputError("The value of empty cells must be a number.")
        for name, value in data.items():
            if not is_kind(name, value):
                raise InputError(f"{value!r:.40} is nothing that can be declared as {name}.")
        return cls(**data)

    def also(self, change: dict[str, Any]) -> Declared:
        """These declarations with some changed."""
        return Declared.from_dict({**self.to_dict(), **change})

    def key(self, file_key: str) -> str:
        """Key of the file of that key as declared: its own where nothing is declared."""
        said = self.to_dict()
        if not said:
            return file_key
        text = file_key + json.dumps(said, sort_keys=True, separators=(",", ":"), allow_nan=False)
        return hashlib.sha256(text.encode()).hexdigest()[:32]


NOTHING = Declared()
