"""The area outside of which a result is empty: one role, the same in every operation that takes it."""

from __future__ import annotations

from yama.terrain.findings import Finding
from yama.terrain.fit.clip import Masked, polygons_of
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.surface import Surface

AREA = Role("features", "Area", many=True, optional=True, of=("polygons",))


def within_area(surface: Surface, inputs: Inputs) -> Surface:
    """The surface, empty outside the polygons of the role `area` where any are given."""
    given = inputs.features("area")
    return Masked(surface, polygons_of(given, surface.grid.crs)) if given else surface


def about_area(inputs: Inputs, frame: Frame) -> list[Finding]:
    """What is wrong with the polygons of the role `area`."""
    given = inputs.features("area")
    if not given:
        return []
    polygons = polygons_of(given, frame.grid.crs)
    if not polygons:
        return [Finding("no_area", "stop", "What is chosen as area holds no polygon.", "Choose another, or none.")]
    if not any(frame.grid.bounds.intersection(Bounds(*shape.bounds)) for shape in polygons):
        return [
            Finding("area_outside", "stop", "The area lies outside the frame.", "Choose another, or check its CRS.")
        ]
    return []
