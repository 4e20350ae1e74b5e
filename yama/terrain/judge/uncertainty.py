"""How wrong a source is, by the ground it stands on: a model of its errors, fitted where they are known.

The variance of an error is a part that depends on what covers the ground, a part that grows with its slope (a small
shift makes an error of its size times the slope: M. Hebeler and R. Purves, "The influence of elevation uncertainty on
derivation of topographic indices", Geomorphology 111, 2009), and, where the source tells its own uncertainty, a
multiple of that. Without known heights, the variances of three sources or more follow from those of their
differences, where their errors are independent (J. Gray and D. Allan, "A method for estimating the frequency
stability of an individual oscillator", 28th Annual Symposium on Frequency Control, 1974)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.later import later
from yama.terrain.median import robust_spread

optimize = later("scipy.optimize")

FEWEST = 20
"""Known errors from which on a model is fitted."""
_OF_A_CLASS = 10
_TURNS = 8
_CUT = 3.0  # standard deviations at which an error counts no more than that
_SHARE = 0.90
_AT_SHARE = 1.6449  # standard deviations within which 90 % of normal errors lie
_FLOOR = 1e-3  # metres
_LEAST = 0.1  # of the variance of all errors that level ground has at least


@dataclass(frozen=True)
class ErrorModel:
    """A model of a source's errors.

    Parameters
    ----------
    names : tuple of str
        Classes of what covers the ground.
    bias, floor : ndarray, shape (classes + 1,)
        By class, and last of all other ground: mean error and standard deviation on level ground, in metres.
    per_rise : float
        Metres of standard deviation that are added, in quadrature, for each metre of rise over run.
    own : float
        What the source's own uncertainty is multiplied by; 0 where it has none.
    count : int
        Errors that it was fitted to.
    within : float
        Share of these that its 90 % intervals hold.
    """

    names: tuple[str, ...]
    bias: FloatArray
    floor: FloatArray
    per_rise: float
    own: float
    count: int
    within: float

    def variance(
        self, slopes: FloatArray, classes: npt.NDArray[np.int64] | None = None, own: FloatArray | None = None
    ) -> FloatArray:
        """Of the error, in m².

        Parameters
        ----------
        slopes : ndarray
            Rise over run; where it is not known, that of level ground counts.
        classes : ndarray of int, optional
            Number of the class, -1 for other ground; of the same shape.
        own : ndarray, optional
            The source's own standard deviation in metres.
        """
        base = self.floor[-1] if classes is None else self.floor[classes]
        found: FloatArray = base**2 + (self.per_rise * np.nan_to_num(slopes)) ** 2
        if own is not None and self.own:
            found = found + (self.own * np.nan_to_num(own)) ** 2
        return found

    def mean(self, classes: npt.NDArray[np.int64] | None = None) -> FloatArray | float:
        """Of the error, in metres."""
        return float(self.bias[-1]) if classes is None else self.bias[classes]


def fitted_model(
    errors: FloatArray,
    slopes: FloatArray,
    classes: npt.NDArray[np.int64] | None = None,
    names: Sequence[str] = (),
    own: FloatArray | None = None,
) -> ErrorModel:
    """A model of errors.

    Parameters
    ----------
    errors : ndarray, shape (n,)
        In metres; NaN ones do not count.
    slopes : ndarray, shape (n,)
        Rise over run.
    classes : ndarray of int, shape (n,), optional
        What covers the ground; -1 where nobody says.
    names : sequence of str
        Of the classes.
    own : ndarray, shape (n,), optional
        The source's own standard deviations, in metres.

    Returns
    -------
    ErrorModel
        Scaled so that nine tenths of the errors lie within 1.645 of its standard deviations. A class of fewer than ten
        errors is as all ground.

    Raises
    ------
    InputError
        Where fewer than 20 errors are known.
    """
    used = np.isfinite(errors)
    if used.sum() < FEWEST:
        raise InputError(
            f"{int(used.sum())} errors are known of this source; {FEWEST} are needed to tell how wrong it is where."
        )
    e = errors[used]
    rise = np.nan_to_num(slopes[used])
    kind = np.full(e.size, -1) if classes is None else classes[used]
    whole = float(np.median(e))
    bias = np.full(len(names) + 1, whole)
    own_of = np.full(e.size, len(names))
    for number in range(len(names)):
        here = kind == number
        if here.sum() >= _OF_A_CLASS:
            bias[number] = float(np.median(e[here]))
            own_of[here] = number
    others = own_of == len(names)
    if others.sum() >= _OF_A_CLASS:
        bias[-1] = float(np.median(e[others]))
    rest = e - bias[own_of]
    fitted = np.unique(own_of)
    columns = [(own_of == number).astype(np.float64) for number in fitted]
    columns.append(rise**2)
    if own is not None:
        columns.append(np.nan_to_num(own[used]) ** 2)
    terms = np.stack(columns, axis=1)
    spread = max((1.4826 * float(np.median(np.abs(rest)))) ** 2, _FLOOR**2)
    variance = np.full(e.size, spread)
    found = np.zeros(terms.shape[1])
    for _ in range(_TURNS):
        squares = np.minimum(rest**2, _CUT**2 * variance)
        # the variance of a square grows with that of the error, squared
        found, _rest = optimize.nnls(terms / variance[:, None], squares / variance)
        variance = np.maximum(terms @ found, _LEAST * spread)
    ratio = float(np.quantile(np.abs(rest) / np.sqrt(variance), _SHARE)) / _AT_SHARE
    found *= ratio**2
    floor = np.full(len(names) + 1, np.nan)
    # ground without a slope to speak of may seem to have no errors at all: nothing is as sure as that
    floor[fitted] = np.sqrt(np.maximum(found[: len(fitted)], _LEAST * spread))
    floor[np.isnan(floor)] = float(np.sqrt(np.average(floor[fitted] ** 2, weights=_counts(columns, len(fitted)))))
    model = ErrorModel(
        tuple(names), bias, floor, float(np.sqrt(found[len(fitted)])),
        float(np.sqrt(found[-1])) if own is not None else 0.0, int(e.size), 0.0,
    )  # fmt: skip
    sigma = np.sqrt(model.variance(rise, np.where(kind < 0, len(names), kind), own[used] if own is not None else None))
    within = float((np.abs(e - bias[np.where(kind < 0, len(names), kind)]) <= _AT_SHARE * sigma).mean())
    return ErrorModel(model.names, bias, floor, model.per_rise, model.own, model.count, within)


def _counts(columns: Sequence[FloatArray], count: int) -> list[float]:
    """How many errors are of each of the first columns."""
    return [float(one.sum()) for one in columns[:count]]


def spreads_between(values: Sequence[FloatArray]) -> FloatArray:
    """Robust standard deviations of the differences of sources at the same places, as `of_differences` takes them.

    Parameters
    ----------
    values : sequence of ndarray, shape (places,)
        Heights, or errors; NaN where a source says nothing.
    """
    count = len(values)
    found = np.full((count, count), np.nan)
    for i in range(count):
        for j in range(i + 1, count):
            apart = values[i] - values[j]
            known = apart[np.isfinite(apart)]
            if known.size >= FEWEST:
                found[i, j] = robust_spread(known)
    return found


def of_differences(spreads: FloatArray) -> FloatArray:
    """Standard deviations of single sources from those of their differences, where their errors are independent.

    Parameters
    ----------
    spreads : ndarray, shape (n, n)
        Standard deviation of source i minus source j; NaN where the two have no ground in common. Only those above the
        diagonal are read.

    Returns
    -------
    ndarray, shape (n,)
        Of least squares with no variance below 0; NaN of a source that too few differences tell of.

    Raises
    ------
    InputError
        Where there are fewer than three sources, or their differences do not tell them apart.
    """
    count = spreads.shape[0]
    pairs = [(i, j) for i in range(count) for j in range(i + 1, count) if np.isfinite(spreads[i, j])]
    terms = np.zeros((len(pairs), count))
    for row, (i, j) in enumerate(pairs):
        terms[row, [i, j]] = 1.0
    known = terms.any(axis=0)
    if count < 3 or len(pairs) < 3 or np.linalg.matrix_rank(terms[:, known]) < known.sum():
        raise InputError("Three surfaces that all share ground are needed to tell their noise without known heights.")
    squares = np.array([spreads[i, j] ** 2 for i, j in pairs])
    # each pair counts by its own size, or the largest would decide alone
    scale = np.maximum(squares, 1e-12)
    found, _rest = optimize.nnls(terms[:, known] / scale[:, None], squares / scale)
    result = np.full(count, np.nan)
    result[known] = np.sqrt(found)
    return result
