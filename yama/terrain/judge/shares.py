"""How much of the ground each class of polygons covers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.judge.places import Places
from yama.terrain.judge.splits import by_polygons

_LOOKED_AT = 40_000


def shares_of(polygons: Sequence[Features], column: str, grid: Grid, names: Sequence[str]) -> dict[str, float]:
    """Shares of the ground of a grid that classes of polygons cover, told at forty thousand places spread evenly over
    it.

    Parameters
    ----------
    polygons : sequence of Features
    column : str
        What they are told apart by.
    grid : Grid
    names : sequence of str
        Of the classes that are asked for.

    Returns
    -------
    dict
        By name; together 1. A class that no polygon is of has 0.

    Raises
    ------
    InputError
        Where none of the polygons is of any of the classes.
    """
    step = max(int(np.ceil(np.sqrt(grid.cell_count / _LOOKED_AT))), 1)
    x, y = np.meshgrid(
        grid.x_of(np.arange(step // 2, grid.cols, step)), grid.y_of(np.arange(step // 2, grid.rows, step))
    )
    found = by_polygons(polygons, column, Places(grid.crs, x.ravel(), y.ravel(), np.zeros(x.size)))
    counts = dict(zip(found.names, found.counts, strict=True))
    total = sum(counts.get(name, 0) for name in names)
    if not total:
        said, asked = ", ".join(found.names[:6]), ", ".join(names[:6])
        raise InputError(
            f"These polygons are of {said}; the points of {asked}. None is the same, so areas cannot be told. "
            "Choose the column that has the same words."
        )
    return {name: counts.get(name, 0) / total for name in names}
