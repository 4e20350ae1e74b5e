"""Parameters of interpolation: what all methods share, and what each has of its own."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from yama.terrain.interpolate.idw import MOST_NEIGHBOURS
from yama.terrain.interpolate.spline import LEAST_TENSION, SMOOTHING, TENSION
from yama.terrain.operations.parameters import (
    CellSize,
    Choice,
    Degrees,
    HeightMetres,
    Metres,
    OnlyWith,
    SquaredHeightMetres,
    Titles,
    Unset,
)

METHODS = Titles(
    {
        "triangulation": "triangulation", "natural_neighbour": "natural neighbour", "inverse_distance": "inverse distance",
        "spline": "spline", "kriging": "kriging", "nearest": "nearest",
    },
    {
        "triangulation": "Flat facets between neighbouring points; exact at every point.",
        "natural_neighbour": "A mean of the neighbours, weighted by the ground each would lose; exact at every point and smooth "
        "between.",
        "inverse_distance": "A mean of the nearest points, nearer ones weighing more.",
        "spline": "The smoothest surface through the points, drawn tighter or looser between them.",
        "kriging": "The likeliest height from how heights differ with distance, with its own error.",
        "nearest": "Each cell takes the height of its nearest point.",
    },
)  # fmt: skip
DUPLICATES = Titles({"mean": "their mean", "first": "the first one", "lowest": "the lowest", "highest": "the highest"})
STRAY_POINTS = Titles({"use": "are used", "leave_out": "are left out"})


def _tension(value: float) -> float:
    if 0 < value < LEAST_TENSION:
        raise ValueError(f"Tension is 0 for a thin plate, or {LEAST_TENSION:g} or more")
    return value


Tension = Annotated[float, AfterValidator(_tension)]


class Interpolation(Choice):
    """Settings of every method."""

    method: Annotated[
        Literal["triangulation", "natural_neighbour", "inverse_distance", "spline", "kriging", "nearest"], METHODS
    ] = "triangulation"
    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    duplicates: Annotated[Literal["mean", "first", "lowest", "highest"], DUPLICATES, Unset("mean")] | None = Field(
        None, description="Height where several points lie at one place; the mean where not given."
    )
    stray_points: Annotated[Literal["use", "leave_out"], STRAY_POINTS] = Field(
        "use", description="Points farther outside the frame than the frame is wide: use them or not."
    )
    breaklines_are: Annotated[
        Literal["hard", "soft"], Titles({"hard": "hard, edges of facets", "soft": "soft, points along them"})
    ] = Field(
        "hard",
        title="They are",
        description="Hard: edges of facets, in a triangulation only. Soft: points along them, which any method can take.",
    )
    left_out: list[tuple[float, float]] = Field(
        [],
        title="points left out",
        max_length=10_000,
        description="Places in the frame's CRS; points within 2 cm of one are not used.",
    )
    reach_limit: Annotated[Metres, Unset("none")] | None = Field(
        None, gt=0, description="Cells farther than this from every point stay empty."
    )
    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")
    whole: bool = Field(False, title="Whole numbers", description="Heights in whole units, without decimals.")


class Triangulated(Interpolation):
    """Flat facets between the points."""

    method: Literal["triangulation"] = "triangulation"
    edge_limit: Annotated[Metres, Unset("none")] | None = Field(
        None, gt=0, description="Triangles with a longer side are left out."
    )


class NaturalNeighbour(Interpolation):
    """Weights by the areas that a place takes from its neighbours."""

    method: Literal["natural_neighbour"]
    edge_limit: Annotated[Metres, Unset("none")] | None = Field(
        None, gt=0, description="Triangles with a longer side are left out."
    )


class InverseDistance(Interpolation):
    """Weights by a power of distance."""

    method: Literal["inverse_distance"]
    power: float = Field(2.0, gt=0, le=20, description="The power of distance.")
    neighbours: int = Field(12, ge=1, le=MOST_NEIGHBOURS, description="Points used for a cell.")
    search_radius: Annotated[Metres, Unset("any")] | None = Field(
        None, gt=0, title="Radius", description="Points farther away are not used."
    )
    sectors: Annotated[
        Literal[1, 4, 8], Titles({"1": "all around, the nearest", "4": "4 sectors alike", "8": "8 sectors alike"})
    ] = Field(
        1, title="Taken from", description="So many sectors around a cell share the neighbours evenly, rounded up."
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
    variogram: Annotated[
        Literal["spherical", "exponential", "gaussian", "matern"],
        Titles(
            {"spherical": "spherical", "exponential": "exponential", "gaussian": "Gaussian", "matern": "Matérn, 3/2"}
        ),
    ] = Field("spherical", description="How heights differ with distance.")
    range: Annotated[Metres, Unset("fitted")] | None = Field(
        None, gt=0, description="Distance at which heights know nothing of each other; fitted where not given."
    )
    sill: Annotated[SquaredHeightMetres, Unset("fitted")] | None = Field(
        None, gt=0, description="What is added to the nugget far away; fitted where not given."
    )
    nugget: Annotated[SquaredHeightMetres, Unset("fitted")] | None = Field(
        None, ge=0, description="Noise of the points, squared; fitted where sill and range are not given."
    )
    kriging: Annotated[
        Literal["ordinary", "simple"], Titles({"ordinary": "unknown (ordinary)", "simple": "known (simple)"})
    ] = Field(
        "ordinary",
        title="Mean height",
        description="The mean of heights is unknown and may change (ordinary), or one known mean (simple).",
    )
    kriging_mean: Annotated[HeightMetres, Unset("of the points"), OnlyWith("kriging", ("simple",))] | None = Field(
        None, title="Mean", description="Simple kriging: the known mean; that of the points where not given."
    )
    error_of: Annotated[
        Literal["surface", "measurement"], Titles({"surface": "the ground", "measurement": "a measurement"})
    ] = Field(
        "surface",
        title="Error from",
        description="The standard error: of the surface from the ground, without the nugget; or from another measurement, which "
        "holds it.",
    )
    kriging_neighbours: int = Field(16, ge=2, le=64, title="Neighbours", description="Points used for a cell.")
    direction: Degrees = Field(
        0.0, ge=0, lt=180, description="Along which heights stay alike the longest, clockwise from north."
    )
    ratio: float = Field(1.0, gt=0, le=1, description="The range across that direction as a share of it.")


Interpolation.variants = {
    "triangulation": Triangulated, "natural_neighbour": NaturalNeighbour, "inverse_distance": InverseDistance,
    "nearest": Nearest, "spline": Spline, "kriging": Kriging,
}  # fmt: skip
