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
from yama.terrain.kernels import kernel

DuplicateRule = Literal["mean", "first", "lowest", "highest"]


@dataclass(frozen=True)
class Points:
    """Points in a CRS.

    x, y: float64 `(points,)`. fields: number columns `(points,)` by name, heights among them. codes: text
    `(points,)`, empty where none. unit: of the heights. texts: other text columns `(points,)` by name.
    """

    crs: str
    x: FloatArray
    y: FloatArray
    fields: dict[str, FloatArray]
    codes: npt.NDArray[np.str_] = field(default_factory=lambda: np.empty(0, "U1"))
    height_field: str = "z"
    unit: str = "m"
    texts: dict[str, npt.NDArray[np.str_]] = field(default_factory=dict)

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

    def facts(self) -> dict[str, Any]:
        """What is told of them, as plain JSON values."""
        return {
            "count": len(self), "codes": self.code_counts(), "fields": list(self.fields), "height_field": self.height_field,
            "unit": self.unit, "crs": self.crs, "bounds": list(self.bounds),
        }  # fmt: skip

    def kept(self, keep: npt.NDArray[np.bool_]) -> Points:
        """The points where `keep` is true."""
        return replace(
            self,
            x=self.x[keep],
            y=self.y[keep],
            fields={name: values[keep] for name, values in self.fields.items()},
            codes=self.codes[keep] if self.codes.size else self.codes,
            texts={name: values[keep] for name, values in self.texts.items()},
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
        fields |= {f"text:{name}": values for name, values in self.texts.items()}
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
            texts = {name.removeprefix("text:"): held[name] for name in held.files if name.startswith("text:")}
            return cls(
                crs=str(held["crs"]), x=held["x"], y=held["y"], fields=fields, codes=held["codes"],
                height_field=str(held["height_field"]), unit=str(held["unit"]),
                texts=texts,
            )  # fmt: skip


_MOST_TEXT = 200_000_000
"""Bytes of a text column in memory, which takes the longest text's room for each point."""


def cut_texts(values: list[str]) -> npt.NDArray[np.str_]:
    """A text column; texts that would make it too large are cut."""
    most = max(_MOST_TEXT // (4 * max(len(values), 1)), 16)
    return np.array([value[:most] for value in values], np.str_) if values else np.empty(0, "U1")


@kernel
def first_at_same_place(x, y):
    """For each point `(points,)` the index of the first one with the same coordinates, by open-address hashing. -0.0 is not 0.0."""
    count = x.size
    bits = 4
    while (1 << bits) < 2 * count:
        bits += 1
    mask = (1 << bits) - 1
    table = np.full(1 << bits, -1, np.int32)
    first = np.empty(count, np.int32)
    x_bits = x.view(np.uint64)
    y_bits = y.view(np.uint64)
    for i in range(count):
        mixed = x_bits[i] * np.uint64(0x9E3779B97F4A7C15) ^ (y_bits[i] * np.uint64(0xC2B2AE3D27D4EB4F))
        mixed ^= mixed >> np.uint64(29)
        mixed *= np.uint64(0xBF58476D1CE4E5B9)
        slot = np.int64((mixed >> np.uint64(32)) & np.uint64(mask))
        while True:
            j = table[slot]
            if j < 0:
                table[slot] = i
                first[i] = i
                break
            if x[j] == x[i] and y[j] == y[i]:
                first[i] = j
                break
            slot = (slot + 1) & mask
    return first


def _all_apart(x: FloatArray, y: FloatArray) -> bool:
    """Whether no two points lie at one place, which is told sooner than which do."""
    first = first_at_same_place(np.ascontiguousarray(x) + 0.0, np.ascontiguousarray(y) + 0.0)
    return bool((first == np.arange(first.size)).all())


def _places(x: FloatArray, y: FloatArray) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Points grouped by place: their order by x then y, first come first, and the number of the group of each in it."""
    order = np.lexsort((y, x))
    new = np.ones(x.size, np.bool_)
    new[1:] = (np.diff(x[order]) != 0) | (np.diff(y[order]) != 0)
    return order, np.cumsum(new) - 1


def merge_duplicates(
    x: FloatArray, y: FloatArray, z: FloatArray, rule: DuplicateRule
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """One point for each place, its height by `rule`. Order is that of the first point at each place."""
    if x.size == 0 or _all_apart(x, y):
        return x, y, z
    order, group = _places(x, y)
    starts = np.flatnonzero(np.diff(group, prepend=-1))
    first = order[starts]  # the sort is stable, so the first of a group came first
    heights = z[order]
    if rule == "mean":
        heights = np.add.reduceat(heights, starts) / np.diff(starts, append=x.size)
    elif rule == "first":
        heights = z[first]
    elif rule == "lowest":
        heights = np.minimum.reduceat(heights, starts)
    else:
        heights = np.maximum.reduceat(heights, starts)
    back = np.argsort(first)
    return x[first][back], y[first][back], heights[back]


def duplicate_places(points: Points) -> dict[str, Any]:
    """Places with more than one point: `places`, how many hold `differing` heights, `largest` difference,
    and the `where` `(places, 2)` of the differing ones."""
    nothing = {"places": 0, "differing": 0, "largest": 0.0, "where": np.empty((0, 2))}
    if not len(points) or _all_apart(points.x, points.y):
        return nothing
    order, group = _places(points.x, points.y)
    starts = np.flatnonzero(np.diff(group, prepend=-1))
    counts = np.diff(starts, append=order.size)
    heights = points.z[order]
    spread = np.maximum.reduceat(heights, starts) - np.minimum.reduceat(heights, starts)
    differing = (counts > 1) & (spread > 0)
    first = order[starts[differing]]
    return {
        "places": int((counts > 1).sum()),
        "differing": int(differing.sum()),
        "largest": float(spread[differing].max()) if differing.any() else 0.0,
        "where": np.column_stack([points.x[first], points.y[first]]),
    }


def _box(values: npt.NDArray[np.float64]) -> tuple[float, float]:
    """The range of the bulk, widened by its own width on each side."""
    low, high = np.quantile(values, (0.02, 0.98))
    width = max(high - low, 1e-9)
    return float(low - width), float(high + width)


def strays(points: Points) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Points far from the rest, and those of them that would lie among the rest with x and y exchanged.

    Far is more than the width of the middle 96 % beyond it. Fewer than twenty points have no rest to be far from.
    """
    if len(points) < 20:
        none = np.zeros(len(points), np.bool_)
        return none, none
    (west, east), (south, north) = _box(points.x), _box(points.y)
    far = (points.x < west) | (points.x > east) | (points.y < south) | (points.y > north)
    turned = far & (points.y >= west) & (points.y <= east) & (points.x >= south) & (points.x <= north)
    return far, turned
