"""What is known of the links of a network: from a head or a junction down to the next junction.

Orders: A. Strahler, Transactions of the American Geophysical Union 38 (1957); magnitudes: R. Shreve, Journal of Geology
74 (1966).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.features import Value
from yama.terrain.grid import FloatArray, Grid

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Links:
    """Links of a network.

    Parameters
    ----------
    grid : Grid
        Of the surface over which they run.
    order, magnitude : ndarray, shape (links,)
        After Strahler, and after Shreve.
    below : ndarray of int64, shape (links,)
        The link into which it flows; -1 where it ends.
    length : ndarray, shape (links,)
        In metres.
    area : ndarray, shape (links,)
        Square metres that drain through its last cell before the junction; NaN where that is not known.
    top, bottom : ndarray, shape (links,)
        Heights at its ends, in metres; NaN where there is none.
    """

    grid: Grid
    order: Numbers = field(repr=False)
    magnitude: Numbers = field(repr=False)
    below: Numbers = field(repr=False)
    length: FloatArray = field(repr=False)
    area: FloatArray = field(repr=False)
    top: FloatArray = field(repr=False)
    bottom: FloatArray = field(repr=False)

    def __len__(self) -> int:
        return len(self.order)

    def columns(self) -> tuple[dict[str, list[Value]], dict[str, str]]:
        """What is known of each as columns, with their units. Links are numbered from 1; None where nothing is
        known."""
        columns: dict[str, list[Value]] = {
            "link": list(range(1, len(self) + 1)),
            "below": [int(one) + 1 if one >= 0 else None for one in self.below],
            "order": self.order.tolist(),
            "magnitude": self.magnitude.tolist(),
            "length": _known(self.length, 2),
            "fall": _known(self.top - self.bottom, 2),
            "area": _known(self.area / 10_000, 4),
        }
        return columns, {"length": "m", "fall": "m", "area": "ha"}

    def by_order(self) -> list[tuple[int, int, float]]:
        """Order, how many streams of it there are, and their length in metres. Links of one order that follow each
        other are one stream."""
        told = []
        for order in range(1, int(self.order.max(initial=0)) + 1):
            there = self.order == order
            on = self.below[there]
            goes_on = (on >= 0) & (self.order[np.maximum(on, 0)] == order)
            told.append((order, int(there.sum() - goes_on.sum()), float(self.length[there].sum())))
        return told


def _known(values: FloatArray, decimals: int) -> list[Value]:
    return [None if np.isnan(one) else one for one in np.round(values, decimals).tolist()]
