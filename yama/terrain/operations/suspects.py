"""Suspects: what is probably wrong in a surface, as polygons."""

from __future__ import annotations

from typing import Annotated

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.features import Features, Value
from yama.terrain.fit.clip import polygons_of
from yama.terrain.frame import Frame
from yama.terrain.mend.patches import MOST, KeepOut, outlines
from yama.terrain.mend.suspects import Kind, Limits, Suspect, suspects
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import HeightMetres, Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress

_SECONDS = 5e-7
"""Of a core for a cell."""
_UNITS = {"height": "m", "length": "m", "across": "°"}


class SuspectsParams(Params):
    """From where on something is suspect, and what is known to be real."""

    least: HeightMetres = Field(
        1.0,
        gt=0,
        le=1000,
        title="Least height",
        description="How far a spike or a pit stands out at least, and how high a step is.",
    )
    smallest_hole: int = Field(
        1, ge=1, le=1_000_000, title="Smallest hole", description="Holes of fewer cells are let pass."
    )
    real: Annotated[list[KeepOut], Field(max_length=MOST)] = Field(
        [], title="Known to be real", description="Areas in which nothing is suspect."
    )


def features_of(found: list[Suspect], crs: str) -> Features:
    """Suspects as polygons with columns of what is known of them."""
    columns: dict[str, list[Value]] = {
        "kind": [one.kind for one in found],
        "height": [round(one.height, 3) for one in found],
        "cells": [one.cells for one in found],
        "length": [round(one.length, 2) for one in found],
        "across": [round(one.across, 1) for one in found],
        "x": [one.x for one in found],
        "y": [one.y for one in found],
        "why": [one.why for one in found],
    }
    shapes = np.array([shapely.Polygon(one.ring) for one in found], dtype=object)
    return Features(crs, shapes, columns, _UNITS)


def suspects_of(features: Features) -> list[Suspect]:
    """The suspects of which `features_of` made features, in its CRS; what is none is left out."""
    rows = features.attributes
    if not {"kind", "height", "cells", "length", "across", "x", "y"} <= set(rows):
        return []
    found = []
    for number, shape in enumerate(features.geometries):
        kind: Kind = rows["kind"][number]  # type: ignore[assignment]
        ring = [(float(x), float(y)) for x, y in shapely.get_coordinates(shape)[:-1]]
        x, y, height, cells, length, across = (
            float(rows[name][number] or 0) for name in ("x", "y", "height", "cells", "length", "across")
        )
        found.append(Suspect(kind, x, y, height, int(cells), length, ring, across))
    return found


@register
class Suspects(Operation[SuspectsParams]):
    """What is probably wrong in a surface."""

    name = "suspects"
    title = "Suspects"
    stage = "Mend"
    summary = "What is probably wrong, on every cell: spikes, pits, steps, humps on water, walls of trees, holes."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "waters": Role("features", "Lakes", many=True, optional=True, of=("polygons",)),
    }
    outputs = {"suspects": Output("features", "Suspects")}
    heights_in = "metres"
    previews = "none"

    def cost(self, inputs: Inputs, params: SuspectsParams, frame: Frame) -> float:
        return _SECONDS * inputs.surface("surface").grid.cell_count

    def run(self, inputs: Inputs, params: SuspectsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        grid = surface.grid
        real = outlines([one.turned(frame.grid.crs, grid) for one in params.real], grid)
        waters = polygons_of(inputs.features("waters"), grid.crs) if inputs.has("waters") else []
        limits = Limits(params.least, params.smallest_hole)
        return Results(suspects=features_of(suspects(surface, None, waters, real, limits, progress), grid.crs))
