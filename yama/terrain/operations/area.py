"""The area outside of which a result is empty: one role, the same in every operation that takes it."""

from __future__ import annotations

from yama.terrain.findings import Finding
from yama.terrain.fit.clip import Masked, polygons_of
from yama.terrain.fit.shift import Shifted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.surface import Surface

AREA = Role("features", "Area", many=True, optional=True, of=("polygons",))


def within_area(surface: Surface, inputs: Inputs) -> Surface:
    """The surface, empty outside the polygons of the role `area` where any are given."""
    given = inputs.features("area")
    return Masked(surface, polygons_of(given, surface.grid.crs)) if given else surface


def within_bounds(surface: Surface, bounds: tuple[float, float, float, float] | None) -> Surface:
    """The part of a surface whose cells a rectangle in its CRS touches; all of it where none is given."""
    if bounds is None:
        return surface
    grid = surface.grid
    return Shifted(surface, grid.part(grid.window_over(Bounds(*bounds)).clipped(grid.rows, grid.cols)))


def about_bounds(bounds: tuple[float, float, float, float] | None, frame: Frame) -> list[Finding]:
    """What is wrong with a rectangle in the frame's CRS."""
    if bounds is None:
        return []
    if not (bounds[0] < bounds[2] and bounds[1] < bounds[3]):
        why = "West must be less than east, south less than north."
        return [Finding("bounds", "stop", "The rectangle has no area.", why)]
    if frame.grid.bounds.intersection(Bounds(*bounds)) is None:
        return [Finding("bounds", "stop", "The rectangle lies outside the frame.", "Choose another, or none.")]
    return []


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
