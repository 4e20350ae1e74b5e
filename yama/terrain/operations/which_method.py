"""Which method? Leave-out errors of every way from points to a surface, on the same folds."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from yama.terrain.findings import Finding, Fix
from yama.terrain.frame import Frame
from yama.terrain.interpolate import validate
from yama.terrain.interpolate.idw import MOST_NEIGHBOURS
from yama.terrain.interpolate.kriging import empirical, fit
from yama.terrain.operations.chosen_points import chosen_points
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.judge import columns_of, values_of
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, OnlyWith, Params, Titles, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.points import merge_duplicates
from yama.terrain.progress import Progress
from yama.terrain.table import Column, Table

Name = Literal["triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"]
_MOST_ALONE = 5_000


class WhichMethodParams(Params):
    """Which methods, on which folds."""

    methods: Annotated[list[Name], Field(min_length=1, max_length=8)] = [
        "triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging",
    ]  # fmt: skip
    scheme: Annotated[
        Literal["random", "blocks", "each"],
        Titles({"random": "at random", "blocks": "square blocks", "each": "each point alone"}),
    ] = Field(
        "random", title="Left out", description="Folds drawn at random, folds of square blocks, or each point alone."
    )
    folds: Annotated[int, OnlyWith("scheme", ("random", "blocks"))] = Field(
        10, ge=2, le=100, title="Parts", description="Parts that are left out in turn."
    )
    block: Annotated[GroundMetres, Unset("usual"), OnlyWith("scheme", ("blocks",))] | None = Field(
        None, gt=0, title="Side", description="Side of a block; twelve times the points' spacing where not given."
    )
    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    stray_points: Literal["use", "leave_out"] = "leave_out"
    left_out: list[tuple[float, float]] = Field(
        [], title="points left out", max_length=10_000, description="Places whose points are not used."
    )
    duplicates: Literal["mean", "first", "lowest", "highest"] = "mean"
    power: float = Field(2.0, gt=0, le=20, description="Inverse distance: the power of distance.")
    neighbours: int = Field(12, ge=1, le=MOST_NEIGHBOURS, description="Inverse distance: points used for a place.")
    search_radius: GroundMetres | None = Field(
        None, gt=0, description="Inverse distance: points farther away are not used."
    )


@register
class WhichMethod(Operation[WhichMethodParams]):
    """Cross-validation of every method on the same points."""

    name = "which_method"
    title = "Which method?"
    stage = "Build"
    summary = "Leave-out errors of every method on the same points, side by side."
    inputs = {"points": Role("points", "Points")}
    heights_in = "metres"
    outputs = {"errors": Output("table", "Errors by method")}
    previews = "none"

    def check(self, inputs: Inputs, params: WhichMethodParams, frame: Frame) -> list[Finding]:
        points = inputs.points("points")
        if points.height_field not in points.fields:
            return [Finding("no_height", "stop", "These points have no height field.", "Nothing can be predicted.")]
        count = len(chosen_points(points, params, frame))
        needed = 12 if params.scheme == "each" else max(2 * params.folds, 24)
        if count < needed:
            return [Finding("too_few", "stop", f"{count} points are too few to leave some out.",
                            f"{needed} are needed for this; choose more codes or fewer folds.")]  # fmt: skip
        if params.scheme == "each" and count > _MOST_ALONE:
            return [Finding("too_many", "stop", f"Leaving out each of {count} points alone would take very long.",
                            f"It is done up to {_MOST_ALONE} points; ten folds say nearly the same.",
                            Fix("Use ten folds", {"scheme": "random", "folds": 10}))]  # fmt: skip
        if params.scheme == "random":
            return [Finding("flatters", "note", "Folds drawn at random flatter every method.",
                            "Each point left out has others close by. Blocks tell how a method fares farther away.",
                            Fix("Use blocks", {"scheme": "blocks"}))]  # fmt: skip
        return []

    def run(self, inputs: Inputs, params: WhichMethodParams, frame: Frame, progress: Progress) -> Results:
        points = inputs.points("points")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates)
        across, up = frame.grid.metres_per_unit()
        block = params.block or 12 * spacing_of(x * across, y * up)
        if params.scheme == "each":
            folds = np.arange(x.size)
        else:
            folds = validate.folds_of(x * across, y * up, params.folds, params.scheme, block)
        # a variogram fitted to all points but one is the one fitted to all of them
        whole = fit(empirical(x * across, y * up, z), "spherical") if params.scheme == "each" else None
        known = validate.methods(params.neighbours, params.power, params.search_radius or np.inf, whole)
        found = validate.compare(
            x * across, y * up, z, folds, {name: known[name] for name in dict.fromkeys(params.methods)}, progress
        )
        columns = (
            Column("method", "Method", type="text"), Column("seconds", "Time", "s", decimals=2), *columns_of(points.unit),
        )  # fmt: skip
        rows = [
            (name.replace("_", " ").capitalize(), one.seconds, *values_of(one.figures))
            for name, one in found.outcomes.items()
        ]
        facts = {
            **validate.to_dict(found, x, y), "scheme": params.scheme, "unit": points.unit,
            "block": block if params.scheme == "blocks" else None,
        }  # fmt: skip
        return Results(errors=Table(columns, rows, facts))


def spacing_of(x: Any, y: Any) -> float:
    """Mean distance of neighbours as if the points lay evenly over their bulk, in the coordinates' unit."""
    (west, east), (south, north) = (np.quantile(values, (0.02, 0.98)) for values in (x, y))
    return float((max((east - west) * (north - south), 1e-12) / x.size) ** 0.5)
