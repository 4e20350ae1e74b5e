"""Levelling: what is added to each surface so that all of them agree best where they overlap.

Least squares over every overlap at once, as a levelling network is adjusted (P. R. Wolf and C. D. Ghilani, "Adjustment
Computations", 1997): the sum of (difference + plane of one - plane of the other)² is made least, with one surface held as it is.
Each overlap counts as one observation, by the mean over its cells and one over the square of their spread: what differs between
two surfaces differs over whole valleys, so that more cells do not make it better known, but a narrow spread does.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from yama.terrain.grid import FloatArray
from yama.terrain.mosaic.overlap import KILOMETRE, Overlap

Kind = Literal["none", "offset", "tilt"]
_FEW = 100  # cells of which an overlap counts half
_CLOSEST = 0.01  # height units; nothing is known better


@dataclass(frozen=True)
class Plane:
    """What is added to heights: offset + east * (x - x0) + north * (y - y0). offset in height units, slopes in height units
    a CRS unit."""

    offset: float = 0.0
    east: float = 0.0
    north: float = 0.0
    x0: float = 0.0
    y0: float = 0.0

    @property
    def is_zero(self) -> bool:
        """Whether it changes nothing."""
        return self.offset == self.east == self.north == 0.0

    def at(self, xs: FloatArray, ys: FloatArray) -> FloatArray:
        """Its values at columns `xs` and rows `ys`: `(ys, xs)`."""
        found: FloatArray = self.offset + self.east * (xs - self.x0) + (self.north * (ys - self.y0))[:, None]
        return found


@dataclass(frozen=True)
class Levelling:
    """The planes of all surfaces, and what is left of each overlap's mean difference (of cells that are no blunders). alone: surfaces with no overlap that
    would tie them to the held one; they stay as they are, or are levelled among each other."""

    planes: list[Plane]
    after: list[float]
    alone: list[int]


def level(overlaps: Sequence[Overlap], count: int, kind: Kind, held: int) -> Levelling:
    """Planes for `count` surfaces from their overlaps. Those with a suspicion about their unit do not count.

    held: the surface that stays. A surface not tied to it by overlaps stays as well; of several tied only to each other the
    first stays.
    """
    usable = [one for one in overlaps if one.matrix[0, 0] >= 3 and not one.unit_factor]
    terms = 3 if kind == "tilt" else 1
    groups = _groups(usable, count)
    fixed = {held, *(min(group) for group in groups if held not in group)}
    free = [number for number in range(count) if number not in fixed]
    places = {number: i * terms for i, number in enumerate(free)}
    solved = np.zeros(len(free) * terms)
    if kind != "none" and free and usable:
        left, right = np.zeros((solved.size, solved.size)), np.zeros(solved.size)
        for one in usable:
            weight = _weight(one)
            matrix, vector = weight * one.matrix[:terms, :terms], weight * one.vector[:terms]
            for number, sign in ((one.first, 1.0), (one.second, -1.0)):
                if number not in places:
                    continue
                at = slice(places[number], places[number] + terms)
                left[at, at] += matrix
                right[at] -= sign * vector
                other = one.second if number == one.first else one.first
                if other in places:
                    left[at, places[other] : places[other] + terms] -= matrix
        solved[:] = np.linalg.lstsq(left, right, rcond=1e-10)[0]
    x0, y0 = (overlaps[0].x0, overlaps[0].y0) if overlaps else (0.0, 0.0)
    planes = []
    for number in range(count):
        values = np.zeros(3)
        if number in places:
            values[:terms] = solved[places[number] : places[number] + terms]
        planes.append(Plane(float(values[0]), float(values[1]) / KILOMETRE, float(values[2]) / KILOMETRE, x0, y0))
    after = []
    for one in overlaps:
        first, second = (
            np.array([plane.offset, plane.east * KILOMETRE, plane.north * KILOMETRE])
            for plane in (planes[one.first], planes[one.second])
        )
        after.append(float((one.vector[0] + one.matrix[0] @ (first - second)) / max(one.matrix[0, 0], 1.0)))
    tied = next((group for group in groups if held in group), {held})
    return Levelling(planes, after, [number for number in range(count) if number not in tied])


def _weight(one: Overlap) -> float:
    """The weight of each cell of an overlap. One of few cells counts less as a whole, too."""
    count = float(one.matrix[0, 0])
    return count / (count + _FEW) / count / max(one.nmad, _CLOSEST) ** 2


def _groups(overlaps: Sequence[Overlap], count: int) -> list[set[int]]:
    """Surfaces tied to each other by overlaps, directly or through others."""
    root = list(range(count))

    def find(number: int) -> int:
        while root[number] != number:
            root[number] = root[root[number]]
            number = root[number]
        return number

    for one in overlaps:
        root[find(one.first)] = find(one.second)
    groups: dict[int, set[int]] = {}
    for number in range(count):
        groups.setdefault(find(number), set()).add(number)
    return list(groups.values())
