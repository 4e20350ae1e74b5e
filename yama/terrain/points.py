"""Points with heights: survey points, checkpoints, spot heights."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, parse_crs

DuplicateRule = Literal["mean", "first", "lowest", "highest"]


@dataclass(frozen=True)
class Points:
    """Points in a CRS.

    x, y: float64 `(points,)`. fields: number columns `(points,)` by name, heights among them. codes: text
    `(points,)`, empty where none. unit: of the heights.
    """

    crs: str
    x: FloatArray
    y: FloatArray
    fields: dict[str, FloatArray]
    codes: npt.NDArray[np.str_] = field(default_factory=lambda: np.empty(0, "U1"))
    height_field: str = "z"
    unit: str = "m"

    @property
    def z(self) -> FloatArray:
        """The heights of the height field. Raises InputError where there is none."""
        if self.height_field not in self.fields:
            raise InputError(
                f"The points have no height field {self.height_field!r}; they have: {', '.join(self.fields) or 'none'}."
            )
        return self.fields[self.height_field]

    def __len__(self) -> int:
        return int(self.x.size)

    @property
    def bounds(self) -> Bounds:
        """The rectangle around all points."""
        if not len(self):
            raise InputError("There are no points here.")
        return Bounds(float(self.x.min()), float(self.y.min()), float(self.x.max()), float(self.y.max()))

    def code_counts(self) -> dict[str, int]:
        """Number of points by code, most first."""
        names, counts = np.unique(self.codes, return_counts=True)
        return {str(names[i]): int(counts[i]) for i in np.argsort(-counts, kind="stable")}

    def kept(self, keep: npt.NDArray[np.bool_]) -> Points:
        """The points where `keep` is true."""
        return replace(
            self,
            x=self.x[keep],
            y=self.y[keep],
            fields={name: values[keep] for name, values in self.fields.items()},
            codes=self.codes[keep] if self.codes.size else self.codes,
        )

    def in_crs(self, crs: str) -> Points:
        """The same points with x, y in another CRS. Points it cannot express become non-finite."""
        source, target = parse_crs(self.crs), parse_crs(crs)
        if source == target:
            return self
        x, y = Transformer.from_crs(source, target, always_xy=True).transform(self.x, self.y)
        return replace(self, crs=crs, x=np.asarray(x), y=np.asarray(y))

    def save(self, path: Path) -> None:
        """Write all of it to a file that `load` reads."""
        fields: dict[str, Any] = {f"field:{name}": values for name, values in self.fields.items()}
        with path.open("wb") as file:  # a name would get a suffix of the library's own
            np.savez_compressed(
                file, x=self.x, y=self.y, codes=self.codes, crs=self.crs, unit=self.unit,
                height_field=self.height_field, **fields,
            )  # fmt: skip

    @classmethod
    def load(cls, path: Path) -> Points:
        """Read what `save` wrote."""
        with np.load(path, allow_pickle=False) as held:
            fields = {name.removeprefix("field:"): held[name] for name in held.files if name.startswith("field:")}
            return cls(
                crs=str(held["crs"]), x=held["x"], y=held["y"], fields=fields, codes=held["codes"],
                height_field=str(held["height_field"]), unit=str(held["unit"]),
            )  # fmt: skip


def merge_duplicates(
    x: FloatArray, y: FloatArray, z: FloatArray, rule: DuplicateRule
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """One point for each place, its height by `rule`. Order is that of the first point at each place."""
    places, first, group = np.unique(np.column_stack([x, y]), axis=0, return_index=True, return_inverse=True)
    if len(places) == x.size:
        return x, y, z
    group = group.ravel()
    if rule == "mean":
        heights = np.bincount(group, weights=z) / np.bincount(group)
    elif rule == "first":
        heights = z[first]
    elif rule == "lowest":
        heights = np.full(len(places), np.inf)
        np.minimum.at(heights, group, z)
    else:
        heights = np.full(len(places), -np.inf)
        np.maximum.at(heights, group, z)
    order = np.argsort(first)
    return x[first][order], y[first][order], heights[order]


def duplicate_places(points: Points) -> dict[str, Any]:
    """Places with more than one point: `places`, how many hold `differing` heights, `largest` difference,
    and the `where` `(places, 2)` of the differing ones."""
    places, group = np.unique(np.column_stack([points.x, points.y]), axis=0, return_inverse=True)
    group = group.ravel()
    counts = np.bincount(group)
    low = np.full(len(places), np.inf)
    high = np.full(len(places), -np.inf)
    np.minimum.at(low, group, points.z)
    np.maximum.at(high, group, points.z)
    spread = high - low
    differing = (counts > 1) & (spread > 0)
    return {
        "places": int((counts > 1).sum()),
        "differing": int(differing.sum()),
        "largest": float(spread[differing].max()) if differing.any() else 0.0,
        "where": places[differing],
    }
