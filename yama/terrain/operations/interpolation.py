"""Parameters of interpolation: what all methods share, and what each has of its own."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from yama.terrain.interpolate.idw import MOST_NEIGHBOURS
from yama.terrain.interpolate.spline import LEAST_TENSION, SMOOTHING, TENSION
from yama.terrain.operations.parameters import CellSize, Choice, Degrees, HeightMetres, Metres, SquaredHeightMetres


def _tension(value: float) -> float:
    if 0 < value < LEAST_TENSION:
        raise ValueError(f"Tension is 0 for a thin plate, or {LEAST_TENSION:g} or more")
    return value


Tension = Annotated[float, AfterValidator(_tension)]


class Interpolation(Choice):
    """Settings of every method."""

    method: Literal["triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"] = (
        "triangulation"
    )
    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    duplicates: Literal["mean", "first", "lowest", "highest"] | None = Field(
        None, description="Height where several points lie at one place; the mean where not given."
    )
    stray_points: Literal["use", "leave_out"] = Field(
        "use", description="Points farther outside the frame than the frame is wide: use them or not."
    )
    breaklines_are: Literal["hard", "soft"] = Field(
        "hard",
        description="Hard: edges of facets, in a triangulation only. Soft: points along them, which any method can take.",
    )
    left_out: list[tuple[float, float]] = Field(
        [],
        title="points left out",
        max_length=10_000,
        description="Places in the frame's CRS; points within 2 cm of one are not used.",
    )
    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")
    reach_limit: Metres | None = Field(None, gt=0, description="Cells farther than this from every point stay empty.")
    whole: bool = Field(False, description="Whole numbers: heights in whole units.")


class Triangulated(Interpolation):
    """Flat facets between the points."""

    method: Literal["triangulation"] = "triangulation"
    edge_limit: Metres | None = Field(None, gt=0, description="Triangles with a longer side are left out.")


class NaturalNeighbour(Interpolation):
    """Weights by the areas that a place takes from its neighbours."""

    method: Literal["natural_neighbour"]
    edge_limit: Metres | None = Field(None, gt=0, description="Triangles with a longer side are left out.")


class InverseDistance(Interpolation):
    """Weights by a power of distance."""

    method: Literal["inverse_distance"]
    power: float = Field(2.0, gt=0, le=20, description="The power of distance.")
    neighbours: int = Field(12, ge=1, le=MOST_NEIGHBOURS, description="Points used for a cell.")
    search_radius: Metres | None = Field(None, gt=0, description="Points farther away are not used.")
    sectors: Literal[1, 4, 8] = Field(
        1, description="So many sectors around a cell share the neighbours evenly, rounded up."
    )


class Nearest(Interpolation):
    """The height of the nearest point."""

    method: Literal["nearest"]


class Spline(Interpolation):
    """A spline in tension, or a thin plate."""

    method: Literal["spline"]
    tension: Tension = Field(
        TENSION, ge=0, le=20,
        description=f"How tight it is drawn between points; low overshoots, high peaks. {LEAST_TENSION:g} or more, or 0 for a "
        "thin plate, which is solved from all points at once.",
    )  # fmt: skip
    smoothing: float = Field(SMOOTHING, ge=0, le=100, description="How far it may miss the points; 0 meets them.")


class Kriging(Interpolation):
    """Weights from how heights differ with distance."""

    method: Literal["kriging"]
    variogram: Literal["spherical", "exponential", "gaussian", "matern"] = Field(
        "spherical", description="How heights differ with distance."
    )
    nugget: SquaredHeightMetres | None = Field(
        None, ge=0, description="Noise of the points, squared; fitted where sill and range are not given."
    )
    sill: SquaredHeightMetres | None = Field(
        None, gt=0, description="What is added to the nugget far away; fitted where not given."
    )
    range: Metres | None = Field(
        None, gt=0, description="Distance at which heights know nothing of each other; fitted where not given."
    )
    direction: Degrees = Field(
        0.0, ge=0, lt=180, description="Along which heights stay alike the longest, clockwise from north."
    )
    ratio: float = Field(1.0, gt=0, le=1, description="The range across that direction as a share of it.")
    kriging: Literal["ordinary", "simple"] = Field(
        "ordinary", description="The mean of heights is unknown and may change (ordinary), or one known mean (simple)."
    )
    kriging_mean: HeightMetres | None = Field(
        None, description="Simple kriging: the known mean; that of the points where not given."
    )
    error_of: Literal["surface", "measurement"] = Field(
        "surface",
        description="The standard error: of the surface from the ground, without the nugget; or from another measurement, which "
        "holds it.",
    )
    kriging_neighbours: int = Field(16, ge=2, le=64, description="Points used for a cell.")


Interpolation.variants = {
    "triangulation": Triangulated, "natural_neighbour": NaturalNeighbour, "inverse_distance": InverseDistance,
    "nearest": Nearest, "spline": Spline, "kriging": Kriging,
}  # fmt: skip
