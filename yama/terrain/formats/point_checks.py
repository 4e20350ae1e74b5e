"""What can be wrong with points whatever file they come from: strays, swapped axes, duplicates, heights in feet."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from yama.terrain.findings import Finding, Fix
from yama.terrain.formats.declared import Declared
from yama.terrain.points import Points, duplicate_places, strays

_HIGHEST_GROUND = 8_900.0
_SHOWN = 100
USUAL_VOIDS = (-9999.0, -99999.0, -32768.0, -32767.0, 9999.0, 32767.0, 65535.0, -999.0, 99999.0, -999999.0)
"""Values that many programs write where they know no height; one such far from all others is enough."""


def _void_among(heights: npt.NDArray[np.float64]) -> float | None:
    """A value that usually means empty and lies far from all other heights; None where there is none."""
    for value in USUAL_VOIDS:
        others = heights[heights != value]
        if others.size in (0, heights.size):
            continue
        low, high = float(others.min()), float(others.max())
        if not low - 2 * (high - low) - 10 <= value <= high + 2 * (high - low) + 10:
            return value
    return None


def exchanged(points: Points, which: npt.NDArray[np.bool_]) -> Points:
    """The points with x and y of some exchanged."""
    return replace(points, x=np.where(which, points.y, points.x), y=np.where(which, points.x, points.y))


def check_points(points: Points, name: str, declared: Declared) -> tuple[Points, list[Finding]]:
    """The points with what is declared about them done, and what is still suspicious."""
    findings: list[Finding] = []
    if declared.nodata is not None and points.height_field in points.fields:
        points = points.kept(points.z != declared.nodata)
    if declared.swap == "all":
        points = exchanged(points, np.ones(len(points), np.bool_))
    elif declared.swap == "suspected":
        points = exchanged(points, strays(points)[1])
    far, turned = strays(points)
    if declared.leave_out == "strays":
        points = points.kept(~far)
        far, turned = strays(points)

    def where(chosen: npt.NDArray[np.bool_]) -> list[tuple[float, float]]:
        return [(float(points.x[i]), float(points.y[i])) for i in np.flatnonzero(chosen)[:_SHOWN]]

    if turned.any():
        count = int(turned.sum())
        findings.append(
            Finding(
                "swapped",
                "caution",
                f"{count} {'point' if count == 1 else 'points'} of {name} would lie among the others with x and y "
                "exchanged.",
                "Two numbers were probably typed the wrong way round.",
                Fix("Exchange them", {"swap": "suspected"}),
                where(turned),
            )
        )
    alone = far & ~turned
    if alone.any():
        count = int(alone.sum())
        findings.append(
            Finding(
                "strays",
                "caution",
                f"{count} {'point lies' if count == 1 else 'points lie'} far from the rest of {name}.",
                "One wrong coordinate stretches every extent and every triangle at the rim.",
                Fix("Leave out", {"leave_out": "strays"}),
                where(alone),
            )
        )
    degrees = len(points) > 0 and np.abs(points.x).max() <= 90 < np.abs(points.y).max() <= 180
    if degrees and not declared.swap:
        findings.append(
            Finding(
                "latitude_first",
                "caution",
                f"{name} seems to give latitude before longitude: its second coordinate goes beyond 90.",
                "As x, y it lies in another part of the world.",
                Fix("Exchange x and y", {"swap": "all"}),
            )
        )
    if points.height_field in points.fields and len(points):
        found = duplicate_places(points)
        if found["differing"]:
            findings.append(
                Finding(
                    "duplicates",
                    "note",
                    f"{found['places']} places of {name} have more than one point; at {found['differing']} the "
                    f"heights differ, by {found['largest']:.2f} m at most.",
                    "What to do with them is asked when they are interpolated.",
                    places=[(float(x), float(y)) for x, y in found["where"][:_SHOWN]],
                )
            )
        void = _void_among(points.z)
        if void is not None:
            count = int((points.z == void).sum())
            findings.append(
                Finding(
                    "void_value",
                    "caution",
                    f"{count} {'point' if count == 1 else 'points'} of {name} {'has' if count == 1 else 'have'} the height "
                    f"{void:g}, far from all others.",
                    "Many programs write that where they know no height. Counted as height it makes a pit or a spike.",
                    Fix("Make empty", {"nodata": void}),
                    where(points.z == void),
                )
            )
        if not declared.unit and float(points.z.max()) > _HIGHEST_GROUND:
            findings.append(
                Finding(
                    "feet",
                    "caution",
                    f"Heights in {name} reach {points.z.max():.0f}, which no ground does in metres.",
                    "Heights in feet are 3.28 times too high when taken as metres.",
                    Fix("Take as feet", {"unit": "ft"}),
                )
            )
    return points, findings
