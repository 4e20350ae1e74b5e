"""What a patch does to the cells within it: one class for each operator."""

from __future__ import annotations

from abc import abstractmethod
from typing import Annotated, Any, Literal

import numpy as np
import numpy.typing as npt
import shapely
from pydantic import BaseModel, ConfigDict, Field

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.ground import bridged, opening
from yama.terrain.later import later
from yama.terrain.median import circle, median_around
from yama.terrain.mend.ground import Ground, Mask
from yama.terrain.mend.ribbon import along
from yama.terrain.mosaic.fill import fill_hole

ndimage = later("scipy.ndimage")

_METRES: dict[str, Any] = {"unit": "m"}


def _titles(**titles: str) -> dict[str, Any]:
    """What people call the values of a choice."""
    return {"titles": titles}


_SQUARE = 0.85  # share of its rectangle that a structure's outline covers
_TURNS = 12
_FAR = 4.685  # robust standard deviations at which Tukey's biweight is 0
_RIM = 3
_TILTED, _PLANAR = 3.0, 0.8  # metres that a lake's rim rises at most, where a plane explains that share of its heights
_FLOODED, _FLOODED_SHARE = 0.5, 0.02  # metres that a bank is lower than the water, and the share of it, that are told
_BELOW = 9.0  # times as much as what lies above a river its low places count
_ENDS = 20  # an end of a river is one of so many parts of it
_ON = 1e-6  # metres from a line within which a place lies on it
_SLOPE = 6.0  # cells around within which the ground's slope is the median of the differences
_TERRAINS = {"flat": (0.08, 3, 0.25), "rolling": (0.2, 3, 0.125), "steep": (0.5, 2, 0.125)}
"""Rise over run of the ground, how often what stands on it is sought, and the share of the widest that its trend is
smoothed by."""
_FINE, _GREATEST, _LOW, _NEAR = 0.1, 3.0, 1.0, 0.3
"""Rise over run beside the trend, and the greatest limit, what is always allowed, and what is left as it is, in
metres."""
_MOST = 1_000_000  # cells that a plane is fitted to


class Operator(BaseModel):
    """An operator with its settings. Lengths and heights are in metres, whatever the surface is kept in."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    @property
    def reach(self) -> float:
        """How far outside of the patch cells are looked at, in metres."""
        return 0.0

    @property
    def fills(self) -> bool:
        """Whether empty cells within the patch get heights."""
        return False

    @abstractmethod
    def heights(self, ground: Ground) -> FloatArray:
        """New heights, `(rows, cols)`; only those of cells within the patch count. Raises InputError where it cannot be
        done there."""

    def remark(self, ground: Ground) -> str:
        """What people should know of what it does there, in a sentence; "" where there is nothing."""
        return ""


def _weights(rest: FloatArray) -> FloatArray:
    """Tukey's biweights of residuals against their own spread."""
    spread = 1.4826 * float(np.median(np.abs(rest))) + 1e-9
    share = np.clip(np.abs(rest) / (_FAR * spread), 0, 1)
    found: FloatArray = (1 - share**2) ** 2
    return found


def _fitted(terms: FloatArray, z: FloatArray) -> FloatArray:
    """Coefficients of a robust least squares fit (M-estimation with Tukey's biweight: A. E. Beaton and J. W. Tukey,
    Technometrics 16, 1974), begun from the least absolute residuals."""
    weight: FloatArray = np.ones_like(z)
    found: FloatArray = np.zeros(terms.shape[1])
    for turn in range(_TURNS):
        root = np.sqrt(weight)
        new: FloatArray = np.linalg.lstsq(terms * root[:, None], z * root, rcond=None)[0].astype(np.float64)
        if turn and np.allclose(new, found, rtol=0, atol=1e-7):
            break
        found = new
        rest = z - terms @ found
        weight = 1 / np.maximum(np.abs(rest), 1e-4) if turn < 3 else _weights(rest)
    return found


class Along(Operator):
    """Smooth along a structure: a bridge's deck, a dam, an embankment.

    The structure's length is that of the rectangle around the outline. Heights across it give their median for each
    step along it; along it these are smoothed by local lines, robust against what stands on it (W. S. Cleveland,
    Journal of the American Statistical Association 74, 1979), so that ramps keep their slope. Empty cells are filled.
    """

    kind: Literal["along"]
    window: float = Field(
        50.0,
        gt=0,
        le=5000,
        title="Window",
        description="Length along the structure over which it is smoothed.",
        json_schema_extra=_METRES,
    )

    @property
    def fills(self) -> bool:
        return True

    def heights(self, ground: Ground) -> FloatArray:
        box = shapely.oriented_envelope(ground.outline)
        corners = shapely.get_coordinates(box)[:4]
        x, y = ground.local(corners[:, 0], corners[:, 1])
        sides = np.hypot(np.diff(x, append=x[0]), np.diff(y, append=y[0]))
        share = ground.outline.area / max(box.area, 1e-12)
        if share < _SQUARE:
            raise InputError(
                f"The outline covers {100 * share:.0f} % of the rectangle around it of {sides.max():.1f} by {sides.min():.1f} m; "
                "a structure has square corners. Square its corners, or use another operator."
            )
        longer = int(np.argmax(sides[:2]))
        way = np.array([x[longer + 1] - x[longer], y[longer + 1] - y[longer]]) / sides[longer]
        east, north = ground.places()
        along = east * way[0] + north * way[1]
        known = ground.known
        if known.sum() < 3:
            raise InputError("The outline holds fewer than three cells with heights.")
        step = min(ground.metres)
        start = along[ground.inside].min()
        number = np.rint((along - start) / step).astype(np.int64)
        count = int(number[ground.inside].max()) + 1
        order = np.argsort(number[known], kind="stable")
        held, z = number[known][order], ground.cells[known][order]
        edges = np.searchsorted(held, np.arange(count + 1))
        profile = np.array([np.median(z[a:b]) if b > a else np.nan for a, b in zip(edges[:-1], edges[1:], strict=True)])
        smooth = _local_lines(profile, self.window / step)
        at = (along - start) / step
        found: FloatArray = np.interp(at, np.arange(count), smooth)
        return found


def _local_lines(profile: FloatArray, window: float) -> FloatArray:
    """A profile smoothed by lines fitted around each of its steps, `window` steps long, robust; gaps are bridged."""
    places = np.flatnonzero(np.isfinite(profile)).astype(np.float64)
    z = profile[np.isfinite(profile)]
    half = max(window / 2, 2.0)
    trust = np.ones_like(z)
    smooth = profile
    for turn in range(4):
        smooth = np.empty(profile.size)
        for k in range(profile.size):
            away = np.abs(places - k)
            reach = half
            if (away < reach).sum() < 3:
                reach = float(np.sort(away)[min(3, away.size - 1)]) + 1.0
            weight = np.clip(1 - (away / reach) ** 3, 0, 1) ** 3 * trust
            total = weight.sum()
            if total < 1e-9:
                weight = np.clip(1 - (away / reach) ** 3, 0, 1) ** 3
                total = weight.sum()
            middle, mean = (weight * places).sum() / total, (weight * z).sum() / total
            spread = (weight * (places - middle) ** 2).sum()
            slope = (weight * (places - middle) * (z - mean)).sum() / spread if spread > 1e-9 else 0.0
            smooth[k] = mean + slope * (k - middle)
        if turn < 3:
            trust = _weights(z - smooth[places.astype(np.int64)])
    return smooth


class Smooth(Operator):
    """Smooth: each cell becomes a figure of those around it.

    What keeps edges lets heights flow from cell to cell, the less the more they differ (P. Perona and J. Malik, IEEE
    Transactions on Pattern Analysis and Machine Intelligence 12, 1990).
    """

    kind: Literal["smooth"]
    how: Literal["median", "mean", "gaussian", "edges"] = Field(
        "median",
        title="By",
        json_schema_extra=_titles(median="median", mean="mean", gaussian="Gaussian", edges="keeping edges"),
    )
    radius: float = Field(10.0, gt=0, le=2000, title="Radius", json_schema_extra=_METRES)
    edge: float = Field(
        1.0,
        gt=0,
        le=1000,
        title="Edge",
        description="Difference between neighbours from which on they are on two sides of an edge.",
        json_schema_extra=_METRES | {"only_with": {"how": ["edges"]}},
    )

    @property
    def reach(self) -> float:
        return self.radius * (3 if self.how == "gaussian" else 1)

    def heights(self, ground: Ground) -> FloatArray:
        across, down = (self.radius / size for size in ground.metres)
        cells = ground.cells
        if self.how == "edges":
            # after n steps of a quarter heights have spread as a Gaussian of sqrt(n / 2) cells has
            return _diffused(cells, self.edge, max(round(2 * (min(across, down) / 2) ** 2), 1))
        if self.how == "median":
            found = np.empty_like(cells)
            median_around(cells, circle(min(across, down) + 1e-9), found, cores())
            return found
        known = np.isfinite(cells)
        # heights are counted from their mean, so that sums keep their digits
        base = float(np.mean(cells[known])) if known.any() else 0.0
        values = np.where(known, cells - base, 0.0)

        def around(what: FloatArray) -> FloatArray:
            if self.how == "gaussian":
                spread: FloatArray = ndimage.gaussian_filter(what, (down, across), mode="constant", truncate=3.0)
                return spread
            size = (2 * int(down) + 1, 2 * int(across) + 1)
            mean: FloatArray = ndimage.uniform_filter(what, size, mode="constant")
            return mean

        weight = around(known.astype(np.float64))
        smooth: FloatArray = np.where(known, around(values) / np.maximum(weight, 1e-12) + base, np.nan)
        return smooth


def _diffused(cells: FloatArray, edge: float, steps: int) -> FloatArray:
    """Heights that have flowed between neighbours, where these differ by much less than `edge` from what the ground's
    slope makes of it; nothing flows to or from empty cells."""
    found = cells.copy()
    slopes = [np.empty_like(cells) for _ in (0, 1)]
    for axis, slope in enumerate(slopes):
        median_around(_forward(bridged(cells), axis), circle(_SLOPE), slope, cores())
    for _ in range(steps):
        change = np.zeros_like(found)
        for axis, slope in enumerate(slopes):
            rest = np.nan_to_num(_forward(found, axis) - slope)
            flow = 0.25 * rest * np.exp(-((rest / edge) ** 2))
            change += flow - np.roll(flow, 1, axis)
        found += change
    return found


def _forward(cells: FloatArray, axis: int) -> FloatArray:
    """From each cell to the next; 0 from the last."""
    found = np.roll(cells, -1, axis) - cells
    found[(-1, slice(None)) if axis == 0 else (slice(None), -1)] = 0
    return found


class Clear(Operator):
    """Clear what stands on the ground: trees, houses, walls.

    Ground is what morphological opening with growing windows leaves, but for a limit that grows with the window and
    the slope up to a greatest one (K. Zhang et al., IEEE Transactions on Geoscience and Remote Sensing 41, 2003);
    what stands above it is bridged by a tight plate. That is done again on the heights above the smoothed ground
    found before, so that on a slope the limit can be nearly that of flat ground.
    """

    kind: Literal["clear"]
    terrain: Literal["flat", "rolling", "steep"] = Field(
        "rolling", title="Ground", json_schema_extra=_titles(flat="flat", rolling="rolling", steep="steep")
    )
    widest: float = Field(
        30.0, gt=0, le=500, title="Widest", description="Width of the widest thing to clear.", json_schema_extra=_METRES
    )

    @property
    def reach(self) -> float:
        return 1.5 * self.widest

    def heights(self, ground: Ground) -> FloatArray:
        cells = ground.cells
        cell = float(np.sqrt(ground.metres[0] * ground.metres[1]))
        whole = bridged(cells)
        if np.isnan(whole).any():
            raise InputError("There are no heights within the outline or around it.")
        slope, turns, smooth = _TERRAINS[self.terrain]
        radii = _radii(max(int(np.ceil(self.widest / 2 / cell)), 1))
        ground_below = trend = np.zeros_like(whole)
        for turn in range(turns):
            rest = whole - trend
            stands = np.zeros(whole.shape, np.bool_)
            for radius in radii:
                limit = slope * radius * cell if turn == 0 else min(_FINE * radius * cell, _GREATEST)
                stands |= rest - opening(rest, radius) > limit + _LOW
            # a matched roof's edge slopes down over a cell or two
            stands = ndimage.binary_dilation(stands, np.ones((3, 3), np.bool_))
            ground_below = bridged(np.where(stands | np.isnan(cells), np.nan, whole))
            trend = ndimage.gaussian_filter(ground_below, smooth * self.widest / cell, mode="nearest")
        return np.where(stands & (cells - ground_below > _NEAR), ground_below, cells)


def _radii(most: int) -> list[int]:
    """Half widths of windows from a cell to the widest, each a third more than the one before."""
    found = [1]
    while found[-1] < most:
        found.append(min(max(found[-1] + 1, round(1.3 * found[-1])), most))
    return found


class Plane(Operator):
    """A plane, or a surface of second degree, laid through the cells within or those along the rim; through a million
    of them, spread evenly, where there are more."""

    kind: Literal["plane"]
    shape: Literal["plane", "quadric"] = Field(
        "plane", title="Shape", json_schema_extra=_titles(plane="plane", quadric="second degree")
    )
    through: Literal["inside", "rim"] = Field(
        "inside", title="Through", json_schema_extra=_titles(inside="cells inside", rim="the rim")
    )

    @property
    def reach(self) -> float:
        return 30.0 if self.through == "rim" else 0.0

    @property
    def fills(self) -> bool:
        return True

    def heights(self, ground: Ground) -> FloatArray:
        used = ground.known if self.through == "inside" else ground.rim(_RIM)
        east, north = ground.places()
        scale = max(float(np.abs(east).max()), float(np.abs(north).max()), 1.0)
        u, v = east / scale, north / scale
        terms = [np.ones_like(u), u, v]
        if self.shape == "quadric":
            terms += [u * u, u * v, v * v]
        if used.sum() < 2 * len(terms):
            raise InputError(
                f"{int(used.sum())} cells with heights are too few for a {self.shape}; {2 * len(terms)} are needed."
            )
        every = max(int(used.sum()) // _MOST, 1)
        system = np.stack([one[used][::every] for one in terms], axis=1)
        found = _fitted(system, ground.cells[used][::every])
        laid: FloatArray = sum((one * factor for one, factor in zip(terms, found, strict=True)), np.zeros_like(u))
        return laid


class Height(Operator):
    """One height."""

    kind: Literal["height"]
    height: float = Field(title="Height", json_schema_extra=_METRES)

    @property
    def fills(self) -> bool:
        return True

    def heights(self, ground: Ground) -> FloatArray:
        return np.full(ground.cells.shape, self.height)


class Level(Operator):
    """Level a lake, as high as its rim says: a percentile of the cells along it, or the lowest of them."""

    kind: Literal["level"]
    percentile: float = Field(
        10.0,
        ge=0,
        le=100,
        title="Rim",
        description="Percentile of the heights along the rim that the water gets; 0 is the lowest.",
        json_schema_extra={"unit": "%"},
    )

    @property
    def reach(self) -> float:
        return 30.0

    @property
    def fills(self) -> bool:
        return True

    def level_of(self, ground: Ground) -> float:
        """The height that the lake gets."""
        rim = ground.rim()
        if rim.sum() < 4:
            raise InputError(
                "No heights lie along the outline's rim, so that nothing says how high the water stands. Type a height."
            )
        z = ground.cells[rim]
        east, north = (one[rim] for one in ground.places())
        terms = np.stack([np.ones_like(z), east, north], axis=1)
        plane = terms @ np.linalg.lstsq(terms, z, rcond=None)[0]
        rise = float(np.ptp(plane))
        if rise > _TILTED and np.var(z - plane) < (1 - _PLANAR) * np.var(z):
            raise InputError(
                f"The outline lies on a slope that rises by {rise:.1f} m from side to side, where no water stands level. Draw it "
                "along the water's edge, or give the height yourself."
            )
        return float(np.percentile(z, self.percentile))

    def heights(self, ground: Ground) -> FloatArray:
        return np.full(ground.cells.shape, self.level_of(ground))

    def remark(self, ground: Ground) -> str:
        level, rim = self.level_of(ground), ground.rim()
        under = level - ground.cells[rim]
        low = under > _FLOODED
        if low.mean() < _FLOODED_SHARE:
            return ""
        along_bank = float(low.sum()) * float(np.sqrt(np.prod(ground.metres)))
        return (
            f"Along {along_bank:.0f} m the bank is lower than the water, which stands at {level:.2f} m, by up to "
            f"{under.max():.2f} m. Draw the outline along the water's edge, or lower the rim's percentile."
        )


class Across(Operator):
    """From the rim across: by flat facets, or by a thin plate that leaves no crease."""

    kind: Literal["across"]
    how: Literal["facets", "plate"] = Field(
        "plate", title="By", json_schema_extra=_titles(plate="a thin plate", facets="facets")
    )
    only_empty: bool = Field(False, title="Empty cells only")

    @property
    def reach(self) -> float:
        return 30.0

    @property
    def fills(self) -> bool:
        return True

    def heights(self, ground: Ground) -> FloatArray:
        filled = ground.inside & np.isnan(ground.cells) if self.only_empty else ground.inside
        without = np.where(filled, np.nan, ground.cells).astype(np.float32)
        if not np.isfinite(without).any():
            raise InputError("No heights lie around the outline, so that there is nothing to go across from.")
        found = np.where(self.only_empty, ground.cells, np.nan)
        if filled.any():
            found[filled] = fill_hole(without, filled, self.how)
        return found


class Replace(Operator):
    """From another surface, lifted and tilted to the rim so that no step is left."""

    kind: Literal["replace"]
    lifted: bool = Field(
        True,
        title="Lifted to the rim",
        description="Offset and tilt are taken away, so that no step is left at the rim.",
    )

    @property
    def reach(self) -> float:
        return 30.0

    @property
    def fills(self) -> bool:
        return True

    def heights(self, ground: Ground) -> FloatArray:
        if ground.other is None:
            raise InputError("Replacing from another surface needs that surface.")
        if not np.isfinite(ground.other[ground.inside]).any():
            raise InputError("The other surface is empty within the outline. Choose one that has heights there.")
        if not self.lifted:
            return ground.other
        without = np.where(ground.inside, np.nan, ground.cells).astype(np.float32)
        found = np.full(ground.cells.shape, np.nan)
        found[ground.inside] = fill_hole(without, ground.inside, "other", ground.other.astype(np.float32))
        return found


class Raise(Operator):
    """Raise or lower by a height, and scale about one."""

    kind: Literal["raise"]
    by: float = Field(0.0, ge=-10_000, le=10_000, title="By", json_schema_extra=_METRES)
    scale: float = Field(1.0, ge=0, le=10, title="Scale")
    about: float = Field(
        0.0, title="About", description="The height that scaling leaves as it is.", json_schema_extra=_METRES
    )

    def heights(self, ground: Ground) -> FloatArray:
        return (ground.cells - self.about) * self.scale + self.about + self.by


class Spikes(Operator):
    """Take away spikes and pits: cells that differ from the median around them by more than a height, and by more than
    so many robust standard deviations of the cells there. A hill is many cells wide, and its median rises with it."""

    kind: Literal["spikes"]
    radius: float = Field(8.0, gt=0, le=200, title="Radius", json_schema_extra=_METRES)
    deviations: float = Field(
        5.0, ge=2, le=50, title="Deviations", description="Robust standard deviations of the cells around it."
    )
    least: float = Field(
        1.0, ge=0, title="Least", description="Least height of a spike, or depth of a pit.", json_schema_extra=_METRES
    )
    which: Literal["both", "spikes", "pits"] = Field(
        "both", title="Which", json_schema_extra=_titles(both="spikes and pits", spikes="spikes", pits="pits")
    )

    @property
    def reach(self) -> float:
        return 3 * self.radius

    def heights(self, ground: Ground) -> FloatArray:
        half = circle(self.radius / max(ground.metres) + 1e-9)
        middle, usual = np.empty_like(ground.cells), np.empty_like(ground.cells)
        median_around(ground.cells, half, middle, cores())
        rest = ground.cells - middle
        median_around(np.abs(rest), circle(2 * self.radius / max(ground.metres) + 1e-9), usual, cores())
        off = np.abs(rest) > np.maximum(self.deviations * 1.4826 * usual, self.least)
        if self.which != "both":
            off &= (rest > 0) == (self.which == "spikes")
        return np.where(off, middle, ground.cells)


class Falling(Operator):
    """A river that falls steadily: downstream heights never rise, each cross-section keeping its shape.

    It runs along the line that it was drawn with, from its upper end to its lower one, or between the banks of an
    outline, whose ends are the cells farthest from each other; the higher of these is the upper one.

    The lowest heights across the river, step by step along it, become the nearest that never rise downstream
    (isotonic regression by pooling adjacent violators: R. E. Barlow et al., "Statistical Inference under Order
    Restrictions", Wiley 1972), with nine times the weight for what lies below it: trees hide water, and nothing digs
    into it (expectiles: W. K. Newey and J. L. Powell, Econometrica 55, 1987). Each cell is moved by what its step was
    moved, or gets the height of its step, where the water is to be level across.
    """

    kind: Literal["falling"]
    level: bool = Field(
        False,
        title="Level across",
        description="The water is level from bank to bank; else each cross-section keeps its shape.",
    )
    turned: bool = Field(
        False,
        title="Falls the other way",
        description="The line was drawn from the lower end to the upper one, or the upper end between banks is the "
        "other.",
    )

    def _numbers(self, ground: Ground) -> tuple[npt.NDArray[np.int64], Mask]:
        """At which step along the river each cell lies, and which cells have one."""
        if ground.line is not None:
            x, y = ground.local(ground.line[:, 0], ground.line[:, 1])
            at, step = ground.stations(shapely.LineString(np.stack([x, y], axis=1))), min(ground.metres)
        else:
            at, step = along(ground.inside, *ground.metres)
        there = ground.inside & np.isfinite(at)
        return np.floor(np.where(there, at, 0) / step).astype(np.int64), there

    def heights(self, ground: Ground) -> FloatArray:
        if not ground.known.any():
            raise InputError("There are no heights along the river.")
        number, there = self._numbers(ground)
        known = there & np.isfinite(ground.cells)
        low = np.full(int(number[known].max()) + 1, np.inf)
        np.minimum.at(low, number[known], ground.cells[known])
        steps = np.flatnonzero(np.isfinite(low))
        end = max(steps.size // _ENDS, 1)
        rise = float(np.median(low[steps[-end:]]) - np.median(low[steps[:end]]))
        if self.turned if ground.line is not None else (rise > 0) != self.turned:
            low, number, rise = low[::-1], low.size - 1 - number, -rise
            steps = np.flatnonzero(np.isfinite(low))
        if rise > 0:
            raise InputError(
                f"Downstream the river ends {rise:.2f} m higher than it begins, so that it would have to rise. Let it fall "
                "the other way, or end it elsewhere."
            )
        fallen = low[steps]
        weight = np.ones_like(fallen)
        for _ in range(_TURNS):
            before, fallen = fallen, falling(low[steps], weight)
            if np.allclose(before, fallen, rtol=0, atol=1e-4):
                break
            weight = np.where(low[steps] > fallen, 1.0, _BELOW)
        moved: FloatArray = ground.cells + np.interp(number, steps, fallen - low[steps])
        water: FloatArray = np.interp(number, steps, fallen)
        return np.where(there, water if self.level else moved, ground.cells)

    @property
    def fills(self) -> bool:
        return self.level


def falling(z: FloatArray, weight: FloatArray | None = None) -> FloatArray:
    """The nearest sequence, by weighted least squares, that never rises."""
    means: list[float] = []
    weights: list[float] = []
    sizes: list[int] = []
    for value, counts in zip(z, np.ones_like(z) if weight is None else weight, strict=True):
        means.append(float(value))
        weights.append(float(counts))
        sizes.append(1)
        while len(means) > 1 and means[-2] < means[-1]:
            together = weights[-2] + weights[-1]
            means[-2] = (means[-2] * weights[-2] + means[-1] * weights[-1]) / together
            weights[-2] = together
            sizes[-2] += sizes[-1]
            del means[-1], weights[-1], sizes[-1]
    return np.repeat(means, sizes)


class Breach(Operator):
    """Open a culvert: along a line the ground is lowered to a straight fall from its one end to its other."""

    kind: Literal["breach"]

    def heights(self, ground: Ground) -> FloatArray:
        if ground.line is None or len(ground.line) < 2:
            raise InputError("A culvert is drawn as a line from where water comes to where it leaves.")
        x, y = ground.local(ground.line[:, 0], ground.line[:, 1])
        course = shapely.LineString(np.stack([x, y], axis=1))
        at = ground.stations(course)
        width = 1.5 * max(ground.metres)
        ends = [ground.known & (at <= width), ground.known & (at >= course.length - width)]
        if not all(one.any() for one in ends):
            raise InputError("There are no heights at an end of the culvert's line.")
        high, low = (float(ground.cells[one].min()) for one in ends)
        if low > high:
            high, low = low, high
            at = course.length - at
        bed = high + (low - high) * at / max(course.length, 1e-9)
        lowered: FloatArray = np.minimum(ground.cells, bed)
        return lowered


class Sharpen(Operator):
    """Sharpen along a breakline: a foot or a top edge that was smeared over some cells.

    The line is the edge. On either side each cell continues the ground beyond the line's width: the height at its rim
    and the slope from there outwards, straight on to the edge.
    """

    kind: Literal["sharpen"]
    run: float = Field(
        10.0,
        gt=0,
        le=500,
        title="Run",
        description="Length outside of the width along which the ground's slope is taken.",
        json_schema_extra=_METRES,
    )

    @property
    def reach(self) -> float:
        return self.run + 4.0

    def heights(self, ground: Ground) -> FloatArray:
        if ground.line is None or len(ground.line) < 2:
            raise InputError("A breakline is drawn as a line along the edge.")
        x, y = ground.local(ground.line[:, 0], ground.line[:, 1])
        course = shapely.LineString(np.stack([x, y], axis=1))
        rows, cols = np.nonzero(ground.inside)
        east, north = (one[rows, cols] for one in ground.places())
        at = shapely.line_locate_point(course, shapely.points(east, north))
        foot = shapely.get_coordinates(shapely.line_interpolate_point(course, at))
        out = np.stack([east, north], axis=1) - foot
        away = np.hypot(*out.T)
        # on the line itself either side will do
        out = np.where(away[:, None] > _ON, out / np.maximum(away, _ON)[:, None], (1.0, 0.0))
        half = float(away.max()) + 0.75 * max(ground.metres)
        known = bridged(ground.cells)

        def sampled(distance: float) -> FloatArray:
            place = foot + out * distance
            wide, high = ground.metres
            first_east, first_north = (float(one[0, 0]) for one in ground.places())
            found: FloatArray = ndimage.map_coordinates(
                known, [(first_north - place[:, 1]) / high, (place[:, 0] - first_east) / wide], order=1, mode="nearest"
            )
            return found

        near, far = sampled(half), sampled(half + self.run)
        found = np.full(ground.cells.shape, np.nan)
        found[rows, cols] = near + (near - far) / self.run * (half - away)
        return found


AnyOperator = Annotated[
    Along | Smooth | Clear | Plane | Height | Level | Across | Replace | Raise | Spikes | Falling | Breach | Sharpen,
    Field(discriminator="kind"),
]
"""An operator, told by its `kind`."""
