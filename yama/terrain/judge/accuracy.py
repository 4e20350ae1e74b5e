"""How far a surface lies from checkpoints, as figures.

Error is surface minus checkpoint. NMAD = 1.4826 * median(|error - median|) and the quantiles of |error| follow
J. Höhle and M. Höhle, "Accuracy assessment of digital elevation models by means of robust statistical methods",
ISPRS Journal 64 (2009).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.judge.intervals import Sureness, sureness
from yama.terrain.median import robust_spread
from yama.terrain.points import Points
from yama.terrain.surface import Surface, sample
from yama.terrain.units import UNITS


@dataclass(frozen=True)
class Figures:
    """Error figures in height units. `count` checkpoints were used, `unused` fell on empty cells or outside.

    mae: mean of the errors' sizes. le68, le90, le95: the errors that 68.3, 90 and 95 % of checkpoints stay within.
    outliers: errors farther than three NMAD from the median.
    """

    count: int
    unused: int
    mean: float
    median: float
    deviation: float
    rmse: float
    nmad: float
    mae: float
    le68: float
    le90: float
    le95: float
    lowest: float
    highest: float
    outliers: int


@dataclass(frozen=True)
class Accuracy:
    """Figures of all checkpoints and of each code, with every single error for plots and maps. sure, sure_by_code:
    how sure they are; None and not there where there are too few checkpoints to tell."""

    all: Figures
    by_code: dict[str, Figures] = field(default_factory=dict)
    errors: list[tuple[float, float, float]] = field(default_factory=list)
    sure: Sureness | None = None
    sure_by_code: dict[str, Sureness] = field(default_factory=dict)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            "all": vars(self.all),
            "by_code": {code: vars(figures) for code, figures in self.by_code.items()},
            "errors": [list(error) for error in self.errors],
            "sure": vars(self.sure) if self.sure else None,
            "sure_by_code": {code: vars(sure) for code, sure in self.sure_by_code.items()},
        }


def figures_of(errors: FloatArray, weights: FloatArray | None = None) -> Figures:
    """Figures of errors.

    Parameters
    ----------
    errors : ndarray, shape (points,)
        NaN ones count as unused.
    weights : ndarray, shape (points,), optional
        How much each counts, such as the ground that it stands for; all alike where not given.

    Raises
    ------
    InputError
        Where no error is left.
    """
    known = np.isfinite(errors)
    used = errors[known]
    if not used.size:
        raise InputError("No checkpoint lies on a filled cell of this surface, so nothing can be said of its accuracy.")
    size = np.abs(used)
    if weights is not None and weights[known].sum() > 0:
        return _weighted(used, size, weights[known], int(errors.size - used.size))
    median = float(np.median(used))
    go_on()  # of many millions each of these takes a second
    nmad = robust_spread(used)
    go_on()
    le68, le90, le95 = (float(one) for one in np.quantile(size, (0.683, 0.90, 0.95)))
    return Figures(
        count=int(used.size),
        unused=int(errors.size - used.size),
        mean=float(used.mean()),
        median=median,
        deviation=float(used.std(ddof=1)) if used.size > 1 else 0.0,
        rmse=float(np.sqrt(np.mean(used**2))),
        nmad=nmad,
        mae=float(size.mean()),
        le68=le68,
        le90=le90,
        le95=le95,
        lowest=float(used.min()),
        highest=float(used.max()),
        outliers=int((np.abs(used - median) > 3 * nmad).sum()) if nmad > 0 else 0,
    )


def _weighted(used: FloatArray, size: FloatArray, weights: FloatArray, unused: int) -> Figures:
    """Figures of errors of which some count more than others; quantiles by the weights up to each."""

    def quantile(values: FloatArray, share: float) -> float:
        order = np.argsort(values, kind="stable")
        # each value stands in the middle of its weight
        at = np.cumsum(weights[order]) - 0.5 * weights[order]
        return float(np.interp(share * weights.sum(), at, values[order]))

    mean = float(np.average(used, weights=weights))
    median = quantile(used, 0.5)
    nmad = 1.4826 * quantile(np.abs(used - median), 0.5)
    return Figures(
        count=int(used.size),
        unused=unused,
        mean=mean,
        median=median,
        deviation=float(np.sqrt(np.average((used - mean) ** 2, weights=weights))),
        rmse=float(np.sqrt(np.average(used**2, weights=weights))),
        nmad=nmad,
        mae=float(np.average(size, weights=weights)),
        le68=quantile(size, 0.683),
        le90=quantile(size, 0.90),
        le95=quantile(size, 0.95),
        lowest=float(used.min()),
        highest=float(used.max()),
        outliers=int((np.abs(used - median) > 3 * nmad).sum()) if nmad > 0 else 0,
    )


def accuracy(surface: Surface, checkpoints: Points) -> Accuracy:
    """Errors of a surface at checkpoints, read bilinearly, in the surface's unit. The checkpoints may be in any CRS
    and unit of height. Raises InputError where the surface's unit is none of heights."""
    if surface.unit not in UNITS:
        raise InputError(f"The surface is in {surface.unit or 'no unit'}: it has no heights that could be judged.")
    there = checkpoints.in_crs(surface.grid.crs)
    errors = sample(surface, there.x, there.y) - checkpoints.z * (UNITS[checkpoints.unit] / UNITS[surface.unit])
    across, up = surface.grid.metres_per_unit()
    east, north = there.x * across, there.y * up
    by_code, sure_by_code = {}, {}
    if checkpoints.codes.size:
        for code in np.unique(checkpoints.codes):
            where = checkpoints.codes == code
            if np.isfinite(errors[where]).any():
                by_code[str(code)] = figures_of(errors[where])
                sure = sureness(errors[where], east[where], north[where])
                if sure is not None:
                    sure_by_code[str(code)] = sure
    used = np.isfinite(errors)
    listed = [
        (float(x), float(y), float(e))
        for x, y, e in zip(checkpoints.x[used], checkpoints.y[used], errors[used], strict=True)
    ]
    return Accuracy(figures_of(errors), by_code, listed, sureness(errors, east, north), sure_by_code)
