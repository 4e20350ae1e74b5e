"""What delivered models lack, from tie points and from heights that are known.

Tie points say by how much the two models disagree across the epipolar direction; along it any error looks like a
height. So tie points alone bring the images together, and control brings them to the ground.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.stereo.rays import Met, Sensor, intersection

Correction = Literal["shift", "affine"]

_SEEN = 1e-3  # share of the clearest direction's weight below which tie points say nothing about another
_TURNS = 8
_HUBER = 1.5
_LEAST = 6
_FOR_AFFINE = 20


@dataclass(frozen=True)
class Adjusted:
    """Two models brought together.

    Parameters
    ----------
    left, right : Sensor
    residuals : ndarray, shape (n, 4)
        Of each tie point, in cells: column and row left, column and row right, measured minus computed.
    sizes : ndarray, shape (n,)
        How far both rays of each tie point miss each other across the epipolar direction, in cells.
    used : ndarray of bool, shape (n,)
        False for those that were left out, by the caller or because they miss by too much.
    rms : float
        Root mean square of `sizes` of those used.
    sigma : float
        Its robust estimate, from the median.
    met : Met
        Where the tie points lie on the ground.
    """

    left: Sensor
    right: Sensor
    residuals: FloatArray
    sizes: FloatArray
    used: npt.NDArray[np.bool_]
    rms: float
    sigma: float
    met: Met


def _slopes(sensor: Sensor, met: Met) -> tuple[FloatArray, FloatArray]:
    """Seen positions `(n, 2)` and their slopes per metre east, north and up `(n, 2, 3)`, by differences."""
    degree = 111_195.0
    cos = np.cos(np.deg2rad(met.lat))
    here = np.stack(sensor.image_of(met.lon, met.lat, met.height), axis=1)
    step = 10.0
    moved = [
        sensor.image_of(met.lon + step / degree / cos, met.lat, met.height),
        sensor.image_of(met.lon, met.lat + step / degree, met.height),
        sensor.image_of(met.lon, met.lat, met.height + step),
    ]
    return here, np.stack([(np.stack(one, axis=1) - here) / step for one in moved], axis=2)


def _own(sensor: Sensor, cells: FloatArray, correction: Correction) -> FloatArray:
    """How seen positions change with the adjustment's numbers: `(n, 2, 2 or 6)`."""
    m = sensor.model
    if correction == "shift":
        return np.broadcast_to(np.eye(2), (len(cells), 2, 2))
    col, row = (cells[:, 0] - m.col_offset) / m.col_scale, (cells[:, 1] - m.row_offset) / m.row_scale
    line = np.stack([np.ones_like(col), col, row], axis=1)
    none = np.zeros_like(line)
    return np.stack([np.hstack([line, none]), np.hstack([none, line])], axis=1)


def _with(sensor: Sensor, found: FloatArray) -> Sensor:
    shift = np.array(sensor.shift)
    shift[[0, 3] if found.size == 2 else slice(None)] += found
    c0, c1, c2, r0, r1, r2 = shift.tolist()
    return replace(sensor, shift=(c0, c1, c2, r0, r1, r2))


def adjusted(
    left: Sensor, right: Sensor, cells: FloatArray, correction: Correction = "shift", most: float | None = None,
    without: npt.NDArray[np.bool_] | None = None,
) -> Adjusted:  # fmt: skip
    """Bring two models together at tie points: least squares over all places and both adjustments, robust.

    Parameters
    ----------
    left, right : Sensor
        As delivered, or as adjusted before.
    cells : ndarray, shape (n, 4)
        Column and row in the left image, column and row in the right one.
    correction : {"shift", "affine"}
        Whether each image is only moved, or also turned, scaled and sheared. "affine" needs 20 points.
    most : float, optional
        Points that miss by more cells are left out; else those by more than 4 times the robust standard deviation.
    without : ndarray of bool, shape (n,), optional
        Points that are left out whatever they say.

    Raises
    ------
    InputError
        Where fewer than 6 points are left.
    """
    use = np.ones(len(cells), bool) if without is None else ~without
    least = _FOR_AFFINE if correction == "affine" else _LEAST
    count = 2 if correction == "shift" else 6
    if correction == "affine" and use.sum() < _FOR_AFFINE:
        raise InputError(
            f"An affine correction needs {_FOR_AFFINE} tie points; there are {int(use.sum())}. Correct by a shift."
        )
    sensors = (left, right)
    sizes = np.full(len(cells), np.nan)
    sigma = np.nan
    for _ in range(_TURNS):
        if use.sum() < least:
            raise InputError(
                f"Only {int(use.sum())} tie points are left; {least} are needed. Find more, or leave out fewer."
            )
        met = intersection(*sensors, cells)
        use &= np.isfinite(met.height)
        normal, right_side = np.zeros((2 * count, 2 * count)), np.zeros(2 * count)
        sizes = _misses(sensors, cells, met)
        sigma = max(1.4826 * float(np.median(np.abs(sizes[use] - np.median(sizes[use])))), 0.01)
        weight = np.minimum(1.0, _HUBER * sigma / np.maximum(np.abs(sizes - np.median(sizes[use])), 1e-12))
        # places are eliminated: what the adjustments must explain is what no place can
        parts = [_slopes(sensor, met) for sensor in sensors]
        ground = np.concatenate([parts[0][1], parts[1][1]], axis=1)  # (n, 4, 3)
        design = np.zeros((len(cells), 4, 2 * count))
        design[:, :2, :count] = _own(left, cells[:, :2], correction)
        design[:, 2:, count:] = _own(right, cells[:, 2:], correction)
        rest = cells - np.hstack([parts[0][0], parts[1][0]])
        for i in np.flatnonzero(use):
            project = np.eye(4) - ground[i] @ np.linalg.solve(ground[i].T @ ground[i], ground[i].T)
            seen = project @ design[i]
            normal += weight[i] * seen.T @ seen / sigma**2
            right_side += weight[i] * seen.T @ (project @ rest[i]) / sigma**2
        # what tie points do not see stays as it was delivered: the shortest of all answers, shared by both images
        found = np.linalg.pinv(normal, rcond=_SEEN, hermitian=True) @ right_side
        sensors = _with(sensors[0], found[:count]), _with(sensors[1], found[count:])
        sizes = _misses(sensors, cells, intersection(*sensors, cells))
        given = ~without if without is not None else np.ones(len(cells), bool)
        robust = 1.4826 * float(np.median(np.abs(sizes[use])))
        limit = max(4 * robust, 0.05) if most is None else most
        use = given & (np.abs(sizes) <= limit)
        if np.abs(found).max() < 1e-4:
            break
    if use.sum() < least:
        raise InputError(
            f"Only {int(use.sum())} tie points are left; {least} are needed. Find more, or leave out fewer."
        )
    met = intersection(*sensors, cells)
    seen_at = np.hstack([np.stack(one.image_of(met.lon, met.lat, met.height), axis=1) for one in sensors])
    rms = float(np.sqrt(np.mean(sizes[use] ** 2)))
    return Adjusted(*sensors, cells - seen_at, np.abs(sizes), use, rms, sigma, met)


def _misses(sensors: tuple[Sensor, Sensor], cells: FloatArray, met: Met) -> FloatArray:
    """By how many cells the rays pass each other, with a sign: the parallax across the epipolar direction."""
    left, right = (np.stack(one.image_of(met.lon, met.lat, met.height), axis=1) for one in sensors)
    rest = cells - np.hstack([left, right])
    # what is left lies across the epipolar line in both images, opposite in sign
    _, slopes = _slopes(sensors[0], met)
    _, others = _slopes(sensors[1], met)
    ground = np.concatenate([slopes, others], axis=1)
    *_, across = np.linalg.svd(np.swapaxes(ground, 1, 2))
    normal = across[:, 3]  # the direction that no place can explain
    normal = normal * np.where(normal[:, [0]] + 1e-3 * normal[:, [1]] < 0, -1, 1)
    size: FloatArray = np.einsum("nk,nk->n", normal, rest) * np.sqrt(2)
    return size


def moved(sensor: Sensor, east: float, north: float, up: float, at: tuple[float, float, float]) -> Sensor:
    """A model that sees the ground moved by so many metres where it saw it before. at: longitude, latitude and height
    of the middle of the scene."""
    lon, lat, height = (np.array([value]) for value in at)
    met = Met(lon, lat, height, np.zeros(1), np.zeros(1))
    _, slopes = _slopes(sensor, met)
    return _with(sensor, -(slopes[0] @ np.array([east, north, up])))
