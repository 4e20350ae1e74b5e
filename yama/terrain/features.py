"""Features: lines, polygons and plain points with attributes, such as rivers, contours, boundaries and land cover."""

from __future__ import annotations

import hashlib
import pickle
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, parse_crs, turn_between

Value = str | float | int | bool | None


@dataclass(frozen=True)
class Features:
    """Geometries in a CRS with one row of attributes each.

    Parameters
    ----------
    crs : str
        Of the coordinates; heights of vertices are in metres.
    geometries : ndarray of shapely geometries, shape (features,)
        None of them empty.
    attributes : dict
        Columns by name, lists of as many plain values as there are features.
    units : dict
        Units of the numbers in columns, where they are known.
    """

    crs: str
    geometries: npt.NDArray[np.object_]
    attributes: dict[str, list[Value]]
    units: dict[str, str] = field(default_factory=dict)

    def __len__(self) -> int:
        return int(self.geometries.size)

    @cached_property
    def fingerprint(self) -> str:
        """What they are, the same in every process."""
        told = (self.crs, shapely.to_wkb(self.geometries).tolist(), self.attributes)
        return hashlib.sha256(pickle.dumps(told, 5)).hexdigest()[:32]

    @property
    def bounds(self) -> Bounds:
        """The rectangle around all of them."""
        if not len(self):
            raise InputError("There are no features here.")
        return Bounds(*(float(value) for value in shapely.total_bounds(self.geometries)))

    @property
    def vertices(self) -> int:
        """Number of vertices of all of them."""
        return int(shapely.get_num_coordinates(self.geometries).sum())

    def counts(self) -> dict[str, int]:
        """How many are points, lines and polygons; kinds that do not occur are left out."""
        dimension = shapely.get_dimensions(self.geometries)
        every = {"points": 0, "lines": 1, "polygons": 2}
        return {name: count for name, number in every.items() if (count := int((dimension == number).sum()))}

    def kinds(self) -> dict[str, str]:
        """What each column holds: `number`, where it has numbers and nothing else, or `text`."""
        kinds = {}
        for name, values in self.attributes.items():
            types = {type(value) for value in values if value is not None}
            kinds[name] = "number" if types and types <= {int, float} else "text"
        return kinds

    def in_crs(self, crs: str) -> Features:
        """The same features with coordinates in another CRS; those it cannot express are left out."""
        source, target = parse_crs(self.crs), parse_crs(crs)
        if source == target:
            return self
        turn = Transformer.from_crs(source, target, always_xy=True).transform

        def turned(places: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
            x, y = turn(places[:, 0], places[:, 1])
            return np.column_stack([x, y, *places[:, 2:].T])

        geometries = np.array(
            [shapely.transform(each, turned, include_z=bool(shapely.has_z(each))) for each in self.geometries],
            dtype=object,
        )
        usable = np.isfinite(shapely.bounds(geometries)).all(1) if len(geometries) else np.zeros(0, np.bool_)
        return replace(self, crs=crs, geometries=geometries).kept(usable)

    def kept(self, keep: npt.NDArray[np.bool_]) -> Features:
        """The features where `keep` is true."""
        where = np.flatnonzero(keep)
        return replace(
            self,
            geometries=self.geometries[where],
            attributes={name: [values[i] for i in where] for name, values in self.attributes.items()},
        )

    def row(self, number: int) -> dict[str, Value]:
        """Attributes of one feature."""
        return {name: values[number] for name, values in self.attributes.items()}


def turned(shapes: Any, source: str, target: str) -> Any:
    """A geometry, or an array of them, with its x and y in another CRS; heights of vertices are dropped."""
    if source == target:
        return shapes
    turn = turn_between(source, target).transform
    return shapely.transform(shapes, lambda places: np.column_stack(turn(places[:, 0], places[:, 1])))


def plain(value: Any) -> Value:
    """An attribute as a JSON value: numbers and texts as they are, dates as text, what is not a number as None."""
    if value is None or isinstance(value, (bool, str)):
        return value
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float):
        return value if np.isfinite(value) else None
    return value if isinstance(value, int) else str(value)


def parts_of(geometry: Any) -> list[FloatArray]:
    """Every line, ring and point of a geometry, in the order they are written: arrays `(vertices, 2 or 3)`."""
    if geometry.geom_type == "Polygon":
        return [part for ring in (geometry.exterior, *geometry.interiors) for part in parts_of(ring)]
    if hasattr(geometry, "geoms"):
        return [part for each in geometry.geoms for part in parts_of(each)]
    return [shapely.get_coordinates(geometry, include_z=bool(geometry.has_z))]
