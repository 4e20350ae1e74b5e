"""Which method? Every method predicts points it was not given, on the same folds, and its errors are counted.

Cross-validation after M. Stone, "Cross-validatory choice and assessment of statistical predictions", Journal of the Royal
Statistical Society B 36 (1974). Points near each other have like heights, so folds drawn at random flatter every method:
the predicted point nearly always has a neighbour close by. Folds of square blocks tell how a method fares away from its
points (D. R. Roberts et al., "Cross-validation strategies for data with temporal, spatial, hierarchical, or phylogenetic
structure", Ecography 40, 2017).
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.interpolate.idw import inverse_distance_at
from yama.terrain.interpolate.kriging import Variogram, empirical, fit, kriged_at
from yama.terrain.interpolate.natural import natural_neighbour_at
from yama.terrain.interpolate.spline import SMOOTHING, TENSION, tension_spline_at
from yama.terrain.interpolate.triangulation import triangulated_at
from yama.terrain.judge.accuracy import Figures, figures_of
from yama.terrain.progress import Progress, ignore_progress

Folds = npt.NDArray[np.int64]
Method = Callable[[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray], FloatArray]
"""Predicts: x, y, z of the points given, and x, y of the places asked about; heights there, NaN where it has none."""

_DISTANCE_BINS = 8


@dataclass(frozen=True)
class Outcome:
    """How a method fared. errors: predicted minus measured `(points,)`, NaN where it predicted nothing. seconds: wall time
    of all its predictions."""

    errors: FloatArray
    figures: Figures | None
    seconds: float


@dataclass(frozen=True)
class Comparison:
    """All methods on the same folds. distances: from each left-out point to the nearest it was predicted from `(points,)`."""

    outcomes: dict[str, Outcome]
    folds: Folds
    distances: FloatArray

    def by_distance(self) -> tuple[list[float], dict[str, list[float | None]]]:
        """RMSE by distance to the nearest point: upper ends of classes of equal number, and the RMSE of each method there;
        None where it predicted nothing."""
        ends = np.unique(np.quantile(self.distances, np.linspace(0, 1, _DISTANCE_BINS + 1)[1:]))
        place = np.searchsorted(ends, self.distances)
        found: dict[str, list[float | None]] = {}
        for name, outcome in self.outcomes.items():
            found[name] = []
            for i in range(len(ends)):
                errors = outcome.errors[(place == i) & np.isfinite(outcome.errors)]
                found[name].append(float(np.sqrt(np.mean(errors**2))) if errors.size else None)
        return ends.tolist(), found


def folds_of(
    x: FloatArray, y: FloatArray, count: int, scheme: Literal["random", "blocks"], block: float = 0.0, seed: int = 1
) -> Folds:
    """The fold of each point `(points,)`, 0 to count - 1. `random`: each as large as the others. `blocks`: squares of side
    `block`, each wholly in one fold, dealt so that folds are about equally large. The same every time.

    Raises InputError where there are fewer than two folds, fewer points than folds, or fewer blocks than folds.
    """
    if count < 2 or x.size < max(count, 4):
        raise InputError(f"{x.size} points cannot be parted into {count} folds.")
    rng = np.random.default_rng(seed)
    if scheme == "random":
        folds = np.arange(x.size) % count
        rng.shuffle(folds)
        return folds
    if not block > 0:
        raise InputError("Blocks need a side greater than 0.")
    col = np.floor((x - x.min()) / block).astype(np.int64)
    row = np.floor((y - y.min()) / block).astype(np.int64)
    _, number, sizes = np.unique(row * (col.max() + 1) + col, return_inverse=True, return_counts=True)
    if len(sizes) < count:
        raise InputError(f"Blocks of {block:g} m make only {len(sizes)} squares, fewer than {count} folds. "
                         "Choose smaller blocks.")  # fmt: skip
    fold_of_block, filled = np.empty(len(sizes), np.int64), np.zeros(count, np.int64)
    order = rng.permutation(len(sizes))
    for i in order[np.argsort(-sizes[order], kind="stable")]:  # the largest first, each to the emptiest fold
        fold_of_block[i] = int(filled.argmin())
        filled[fold_of_block[i]] += sizes[i]
    return np.asarray(fold_of_block[number], np.int64)


def methods(
    neighbours: int = 12, power: float = 2.0, radius: float = np.inf, variogram: Variogram | None = None
) -> dict[str, Method]:
    """Every method by name. variogram: for kriging; fitted to the points of each prediction (spherical) where not given."""

    def kriging(x: FloatArray, y: FloatArray, z: FloatArray, qx: FloatArray, qy: FloatArray) -> FloatArray:
        return kriged_at(x, y, z, qx, qy, variogram or fit(empirical(x, y, z), "spherical"))[0]

    return {
        "triangulation": lambda x, y, z, qx, qy: triangulated_at(x, y, z, qx, qy, triangulate(x, y)),
        "natural_neighbour": lambda x, y, z, qx, qy: natural_neighbour_at(x, y, z, qx, qy, triangulate(x, y)),
        "inverse_distance": lambda x, y, z, qx, qy: inverse_distance_at(x, y, z, qx, qy, neighbours, power, radius)[0],
        # a trace of smoothing keeps it calm where points with different heights lie close together
        "spline": lambda x, y, z, qx, qy: tension_spline_at(x, y, z, qx, qy, TENSION, SMOOTHING),
        "kriging": kriging,
        "nearest": lambda x, y, z, qx, qy: inverse_distance_at(x, y, z, qx, qy, 1)[0],
    }


def compare(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    folds: Folds,
    chosen: Mapping[str, Method],
    progress: Progress = ignore_progress,
) -> Comparison:
    """Errors of each method at every point, predicted from the points of the other folds.

    x, y, z: `(points,)` in a CRS in metres, one point a place. A method that cannot predict a fold (too few points for a
    triangle) has no errors there.
    """
    count = int(folds.max()) + 1
    errors = {name: np.full(x.size, np.nan) for name in chosen}
    seconds: dict[str, float] = dict.fromkeys(chosen, 0.0)
    distances = np.full(x.size, np.inf)
    for fold in range(count):
        out = folds == fold
        given = (x[~out], y[~out], z[~out])
        distances[out] = inverse_distance_at(*given, x[out], y[out], 1)[1]
        for name, method in chosen.items():
            started = time.perf_counter()
            try:
                errors[name][out] = method(*given, x[out], y[out]) - z[out]
            except InputError:
                errors[name][out] = np.nan
            seconds[name] += time.perf_counter() - started
        progress((fold + 1) / count)
    outcomes: dict[str, Outcome] = {}
    for name, found in errors.items():
        figures = figures_of(found) if np.isfinite(found).any() else None
        outcomes[name] = Outcome(found, figures, seconds[name])
    return Comparison(outcomes, folds, distances)


def to_dict(comparison: Comparison, x: FloatArray, y: FloatArray) -> dict[str, Any]:
    """A comparison as plain JSON values, with the places of the points."""
    ends, by_distance = comparison.by_distance()
    return {
        "methods": {
            name: {"figures": vars(one.figures) if one.figures else None, "seconds": one.seconds}
            for name, one in comparison.outcomes.items()
        },
        "distance_ends": ends,
        "by_distance": by_distance,
        "folds": int(comparison.folds.max()) + 1,
        "points": [[round(float(a), 2), round(float(b), 2)] for a, b in zip(x, y, strict=True)],
        "errors": {
            name: [round(float(error), 4) if np.isfinite(error) else None for error in one.errors]
            for name, one in comparison.outcomes.items()
        },
    }
