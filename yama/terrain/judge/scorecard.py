"""The scorecard: how surfaces do at the same places, all of them and class by class.

Figures are those of `accuracy`, how sure they are of `intervals`. A surface cannot be judged at points it was made
from, so those are left out of its row."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.judge.accuracy import Figures, figures_of
from yama.terrain.judge.intervals import Sureness, sureness
from yama.terrain.judge.places import Judged, Places
from yama.terrain.judge.splits import Split
from yama.terrain.kept import Kept

FEW = 20
"""Places below which a figure of 95 % says little."""
SHAPE = 96
"""Places on the axis at which the density of errors is told."""
_DRAWS = 999
_DRAWS_OF_A_CLASS = 199
_REACH = 0.99  # of all errors that the axis holds at least
_NARROWEST = 0.02  # of the axis that an error is spread over, so that few of them make a shape
_NEARLY = 0.7  # of the places at which any surface has a height
_BEYOND = 3.0  # NMAD from the median from which on an error is an outlier

_sure: Kept[str, Sureness | None] = Kept(400)


@dataclass(frozen=True)
class Subject:
    """A surface that is judged. left_out: `(places,)`, where it was made from the very point."""

    name: str
    judged: Judged
    left_out: npt.NDArray[np.bool_] | None = None

    @property
    def errors(self) -> FloatArray:
        """NaN where it is empty or left out."""
        if self.left_out is None or not self.left_out.any():
            return self.judged.errors
        return np.where(self.left_out, np.nan, self.judged.errors)


@dataclass(frozen=True)
class Part:
    """Figures of some of the places, and how sure they are; None where there are none."""

    figures: Figures | None
    sure: Sureness | None = None


@dataclass(frozen=True)
class Axis:
    """The common axis of errors: even, or stretched near zero.

    Parameters
    ----------
    reach : float
        Metres at either end.
    knee : float
        Metres up to which it is about even, and beyond which it is about logarithmic; 0 where it is even all along.
    """

    reach: float
    knee: float

    def place(self, errors: FloatArray) -> FloatArray:
        """From -1 to 1; what is beyond either end stands there."""
        if self.knee:
            along = np.arcsinh(errors / self.knee) / np.arcsinh(self.reach / self.knee)
        else:
            along = errors / self.reach
        found: FloatArray = np.clip(along, -1.0, 1.0)
        return found


@dataclass(frozen=True)
class Row:
    """How one surface does.

    Parameters
    ----------
    whole : Part
    parts : list of Part
        Class by class of the first split.
    crossed : list of list of Part
        Class by class of the first split, and of the second; empty where there is none.
    left_out : int
        Points it was made from.
    shape : ndarray, shape (SHAPE,)
        Density of the errors along the axis; its largest is 1.
    outliers : list of int
        Places whose error is farther than three NMAD from the median, worst first.
    """

    name: str
    whole: Part
    parts: list[Part]
    crossed: list[list[Part]]
    left_out: int
    shape: FloatArray
    outliers: list[int]


@dataclass(frozen=True)
class Card:
    """The scorecard. shared: places at which every surface has a height."""

    rows: list[Row]
    axis: Axis
    shared: int
    split: Split
    second: Split | None = None
    errors: list[FloatArray] = field(default_factory=list, repr=False)


def best_of(subjects: Sequence[Subject], at_least: float = _NEARLY) -> int:
    """The surface whose errors are smallest: those that 68 % of places stay within, so that a few large ones do not
    decide.

    Parameters
    ----------
    subjects : sequence of Subject
    at_least : float
        Share of the places at which any surface has a height, at which it must have one.
    """
    counts = [int(np.isfinite(one.errors).sum()) for one in subjects]
    fewest = max(at_least * max(counts), min(FEW, max(counts)))

    def size(number: int) -> float:
        own = subjects[number].errors
        known = np.abs(own[np.isfinite(own)])
        return float(np.quantile(known, 0.683)) if known.size >= max(fewest, 1) else np.inf

    return min(range(len(subjects)), key=size)


def axis_of(errors: Sequence[FloatArray], even: bool = False) -> Axis:
    """An axis that holds nearly all errors, stretched near zero where the smallest differ much from the largest."""
    known = [np.abs(one[np.isfinite(one)]) for one in errors]
    known = [one for one in known if one.size]
    if not known:
        return Axis(1.0, 0.0)
    reach = _rounded_up(max(float(np.quantile(one, _REACH)) for one in known))
    smallest = min(float(np.quantile(one, 0.68)) for one in known)
    knee = float(np.clip(smallest, reach / 500, reach))
    return Axis(reach, 0.0 if even or knee > reach / 4 else knee)


def _rounded_up(value: float) -> float:
    """The next of 1, 2, 5, 10 and so on."""
    power = 10.0 ** np.floor(np.log10(max(value, 1e-3)))
    return float(next(step * power for step in (1, 2, 5, 10) if step * power >= value * (1 - 1e-9)))


def shape_of(errors: FloatArray, axis: Axis, weights: FloatArray | None = None) -> FloatArray:
    """Density of errors along an axis, of Gaussian kernels as wide as Silverman's rule says (B. Silverman, "Density
    Estimation for Statistics and Data Analysis", Chapman and Hall 1986, 3.31). `(SHAPE,)`, its largest is 1; all 0
    where there are no errors."""
    known = np.isfinite(errors)
    at = axis.place(errors[known])
    if not at.size:
        return np.zeros(SHAPE)
    low, high = np.quantile(at, (0.25, 0.75))
    spread = min(float(at.std()), float(high - low) / 1.34) or float(at.std())
    width = max(0.9 * spread * at.size**-0.2, _NARROWEST)
    # counted finely first, so that very many errors cost no more than few
    fine = 8 * SHAPE
    counts, edges = np.histogram(at, fine, (-1.0, 1.0), weights=None if weights is None else weights[known])
    middles = 0.5 * (edges[1:] + edges[:-1])
    out = np.linspace(-1, 1, SHAPE)
    some = np.flatnonzero(counts)
    density: FloatArray = np.exp(-0.5 * ((out[:, None] - middles[None, some]) / width) ** 2) @ counts[some]
    density /= density.max()
    return density


def weights_of(split: Split, shares: dict[str, float], used: npt.NDArray[np.bool_]) -> FloatArray:
    """How much each place counts where each class counts as much as its share of the ground.

    Parameters
    ----------
    split : Split
    shares : dict
        Of the ground, by name of the class.
    used : ndarray, shape (places,)
        Places that count.
    """
    weights = np.zeros(split.of.size)
    for number, name in enumerate(split.names):
        own = (split.of == number) & used
        if own.any():
            weights[own] = shares.get(name, 0.0) / own.sum()
    if not weights.any():
        raise InputError("None of these classes covers any of the ground, so the figures cannot be weighed by area.")
    return weights


def _sure_of(
    errors: FloatArray, east: FloatArray, north: FloatArray, weights: FloatArray | None, draws: int
) -> Sureness | None:
    """See `sureness`. The same errors are asked for again with every other split."""
    told = hashlib.blake2b(digest_size=16)
    for one in (errors, east, north, *(() if weights is None else (weights,))):
        told.update(np.ascontiguousarray(one).tobytes())
    return _sure.get(f"{told.hexdigest()} {draws}", lambda: sureness(errors, east, north, weights, draws))


def scorecard(
    subjects: Sequence[Subject],
    places: Places,
    split: Split,
    second: Split | None = None,
    shared: bool = False,
    shares: dict[str, float] | None = None,
    even: bool = False,
) -> Card:
    """Figures of surfaces at places.

    Parameters
    ----------
    subjects : sequence of Subject
    places : Places
    split, second : Split
        Classes; of two at once every pair has figures.
    shared : bool
        Count only places at which every surface has a height and none was left out, so that rows can be compared.
    shares : dict, optional
        Of the ground, by class of the first split: figures of all places weigh each class by it, instead of by how
        many of the places happen to stand in it.
    even : bool
        An even axis, not one that is stretched near zero.

    Raises
    ------
    InputError
        Where no place is left for any surface.
    """
    if not subjects:
        raise InputError("Choose the surfaces that are judged.")
    errors = [one.errors for one in subjects]
    together = np.isfinite(errors).all(axis=0)
    if not np.isfinite(errors).any():
        raise InputError(
            "None of the places lies on a filled cell of any of the surfaces, so nothing can be said of their accuracy. "
            "Are the places in the area, and in the right CRS?"
        )
    if shared:
        errors = [np.where(together, one, np.nan) for one in errors]
    axis = axis_of(errors, even)
    east, north = places.in_metres()

    def part(own: FloatArray, where: npt.NDArray[np.bool_], draws: int) -> Part:
        chosen = own[where]
        if not np.isfinite(chosen).any():
            return Part(None)
        return Part(figures_of(chosen), _sure_of(chosen, east[where], north[where], None, draws))

    def row(number: int) -> Row:
        own = errors[number]
        known = np.isfinite(own)
        weights = weights_of(split, shares, known) if shares is not None and known.any() else None
        whole = Part(None)
        outliers: list[int] = []
        if known.any():
            figures = figures_of(own, weights)
            whole = Part(figures, _sure_of(own, east, north, weights, _DRAWS))
            far = np.abs(own - figures.median)
            beyond = np.flatnonzero(known & (far > _BEYOND * figures.nmad)) if figures.nmad else np.empty(0, np.int64)
            outliers = [int(one) for one in beyond[np.argsort(-far[beyond], kind="stable")]]
        parts = [part(own, split.of == each, _DRAWS_OF_A_CLASS) for each in range(len(split.names))]
        crossed = [
            [part(own, (split.of == a) & (second.of == b), _DRAWS_OF_A_CLASS) for b in range(len(second.names))]
            for a in range(len(split.names))
        ] if second is not None else []  # fmt: skip
        left = subjects[number].left_out
        left_out = 0 if left is None else int((left & np.isfinite(subjects[number].judged.errors)).sum())
        return Row(subjects[number].name, whole, parts, crossed, left_out, shape_of(own, axis, weights), outliers)

    with ThreadPoolExecutor(cores()) as pool:
        rows = list(pool.map(row, range(len(subjects))))
    return Card(rows, axis, int(together.sum()), split, second, errors)
