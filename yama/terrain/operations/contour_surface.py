"""Surface from contours: an old sheet's lines, spot heights, streams and lakes to a surface on the frame."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.features import Features, parts_of
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import polygons_of
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.contour_sheet import (
    Gap,
    Sheet,
    Suspect,
    contour_lines,
    crossings,
    gaps,
    height_fields,
    joined,
    likely_height_field,
    mislabelled,
    with_heights,
)
from yama.terrain.interpolate.contour_tin import contour_facets
from yama.terrain.interpolate.contours import TENSION, ContourSpline
from yama.terrain.kept import Kept
from yama.terrain.operations.area import AREA, about_area, within_area
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import CellSize, Metres, OnlyWith, Params, Titles, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface

_HELD = 4
_FINE, _COARSE = 10.0, 2.0
"""Contour spacings over the cell size beyond which cells show nothing more, and below which contours share cells."""
_SIZES = (0.25, 0.5, 1, 2, 5, 10, 20, 25, 50, 100, 200, 500)


METHODS = Titles(
    {"spline": "spline", "triangulation": "triangulation"},
    {
        "spline": "A smooth surface bent to contours, spots, streams and lakes; water can leave it.",
        "triangulation": "Facets between contours, with ridges and valleys put where they were flat.",
    },
)


class ContourParams(Params):
    """Settings of both methods; those a method does not use are ignored by it."""

    method: Annotated[Literal["spline", "triangulation"], METHODS] = "spline"
    height_field: Annotated[str, Unset("found by its name")] | None = Field(
        None, title="Heights", description="Column with the heights; found by its name where not given."
    )
    labels: Annotated[
        Literal["as_given", "as_neighbours"],
        Titles({"as_given": "as given", "as_neighbours": "as their neighbours say"}),
    ] = Field(
        "as_given", description="Heights of lines that do not fit their neighbours: as they are, or as would fit."
    )
    drained: Annotated[bool, OnlyWith("method", ("spline",))] = Field(
        True,
        title="Open hollows no contour asks for",
        description="Spline: hollows are opened, so that water can leave.",
    )
    tension: Annotated[float, OnlyWith("method", ("spline",))] = Field(
        TENSION, ge=0, le=20, description="Spline: how tight it is drawn between contours."
    )
    smoothing: Annotated[Metres, OnlyWith("method", ("spline",))] = Field(
        0.0, ge=0, description="Spline: bends of contours narrower than this are smoothed."
    )
    reach_limit: Annotated[Metres, Unset("none")] | None = Field(
        None, gt=0, description="Cells farther than this from every line stay empty."
    )
    edge_limit: Annotated[Metres, Unset("none"), OnlyWith("method", ("triangulation",))] | None = Field(
        None, gt=0, description="Triangulation: facets with a longer side are left out."
    )
    join_gaps: Annotated[Metres, Unset("none")] | None = Field(
        None, gt=0, title="Join ends", description="Loose ends of one height this near each other are joined."
    )
    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")


@dataclass(frozen=True)
class _Read:
    """A contour holding as it was read, and what is suspicious in it."""

    features: Features
    sheet: Sheet
    without: int
    suspects: list[Suspect]
    gaps: list[Gap]
    loose: FloatArray
    crossings: list[tuple[float, float]]


_reads: Kept[tuple[str, str, str], _Read] = Kept(_HELD)


def _read(features: Features, crs: str, field: str) -> _Read:
    """What a holding's lines say in a CRS. The last few are kept: a preview asks again at every change."""
    return _reads.get((features.fingerprint, crs, field), lambda: _say(features, crs, field))


def _say(features: Features, crs: str, field: str) -> _Read:
    lines, heights, without = contour_lines(features.in_crs(crs), field)
    sheet = Sheet(lines, heights)
    if len(lines) and len(np.unique(heights)) > 1:
        found, loose = gaps(sheet)
        return _Read(features, sheet, without, mislabelled(sheet), found, loose, crossings(sheet))
    return _Read(features, sheet, without, [], [], np.empty((0, 2)), [])


def _lines(inputs: Inputs, name: str, crs: str) -> list[FloatArray]:
    parts = [part for one in inputs.features(name) for shape in one.in_crs(crs).geometries for part in parts_of(shape)]
    return [np.ascontiguousarray(part[:, :2]) for part in parts if len(part) > 1]


def _spots(inputs: Inputs, crs: str) -> FloatArray:
    held = [points.in_crs(crs) for points in inputs.all_points("spots")]
    places = np.concatenate([np.empty((0, 3)), *(np.column_stack([one.x, one.y, one.z]) for one in held)])
    return np.ascontiguousarray(places[np.isfinite(places).all(1)])


def _times(count: int) -> str:
    return "1 place" if count == 1 else f"{count} places"


@register
class ContourSurface(Operation[ContourParams]):
    """A surface through contours, without terraces."""

    name = "contour_surface"
    title = "Surface from contours"
    stage = "Build"
    summary = "Contours with spot heights, streams and lakes become a surface without terraces."
    inputs = {
        "contours": Role("features", "Contours", of=("lines",)),
        "spots": Role("points", "Spots", optional=True),
        "streams": Role("features", "Streams", many=True, optional=True, of=("lines",)),
        "lakes": Role("features", "Lakes", many=True, optional=True, of=("polygons",)),
        "coast": Role("features", "Coast, 0 m", optional=True, of=("lines", "polygons")),
        "area": AREA,
    }
    outputs = {"surface": Output("surface", "Surface", "height")}
    heights_in = "metres"
    area_role = "area"

    def cell_size_of(self, params: ContourParams) -> float | None:
        return params.cell_size

    def check(self, inputs: Inputs, params: ContourParams, frame: Frame) -> list[Finding]:
        (contours,) = inputs.features("contours")
        field = params.height_field or likely_height_field(contours)
        if field is None or field not in height_fields(contours):
            named = (
                f"{field!r} is not a column of numbers." if field else "No column of these lines is called a height."
            )
            return [Finding("no_height", "stop", named, "Choose the one that holds the heights of the contours.")]
        read = _read(contours, frame.grid.crs, field)
        sheet = read.sheet
        if not sheet.contours:
            return [Finding("no_lines", "stop", "None of these is a line with a height.", "Choose another holding.")]
        if len(np.unique(sheet.heights)) < 2:
            return [Finding("one_height", "stop", f"All contours have the height {sheet.heights[0]:g} {frame.unit}.",
                            "A surface needs two at least. Choose another column.")]  # fmt: skip
        box = frame.grid.bounds
        every = np.concatenate(sheet.contours)
        if not ((every >= [box.west, box.south]) & (every <= [box.east, box.north])).all(1).any():
            return [Finding("outside", "stop", "No contour lies within the frame.", "Check their CRS.")]
        return [
            *about_area(inputs, frame),
            *self._labels(read, params, frame),
            *self._shape(read, params),
            *self._cells(sheet, params, frame),
        ]

    def _labels(self, read: _Read, params: ContourParams, frame: Frame) -> list[Finding]:
        found = []
        if read.suspects:
            one = read.suspects[0]
            given = float(read.sheet.heights[one.line])
            subject = "1 contour does" if len(read.suspects) == 1 else f"{len(read.suspects)} contours do"
            places = [(suspect.x, suspect.y) for suspect in read.suspects]
            if params.labels == "as_given":
                found.append(
                    Finding("mislabelled", "caution", f"{subject} not fit the neighbours, the first labelled {given:g} "
                            f"{frame.unit} where {one.height:g} {frame.unit} would fit.", "A wrong label makes a wall.",
                            Fix("Use what fits", {"labels": "as_neighbours"}), places)
                )  # fmt: skip
            else:
                found.append(
                    Finding("relabelled", "note", f"{subject} not fit the neighbours and is given the height that does."
                            if len(read.suspects) == 1 else f"{subject} not fit the neighbours and get heights that do.",
                            "The holding itself stays as it is.", None, places)
                )  # fmt: skip
        if read.without:
            found.append(Finding("without", "caution", f"{read.without} lines have no height.", "They are left out."))
        return found

    def _shape(self, read: _Read, params: ContourParams) -> list[Finding]:
        found = []
        if read.gaps:
            widest = read.gaps[-1].width
            across = int(np.ceil(widest / 5) * 5)
            shut = sum(gap.width <= (params.join_gaps or 0) for gap in read.gaps)
            if shut < len(read.gaps):
                found.append(
                    Finding("gaps", "caution", f"Contours are broken at {_times(len(read.gaps) - shut)}, by up to {widest:.0f} m.",
                            "Between their ends the surface knows less.",
                            Fix(f"Join up to {across} m", {"join_gaps": across}),
                            [(gap.x, gap.y) for gap in read.gaps][:200])
                )  # fmt: skip
        if len(read.loose):
            found.append(
                Finding("loose", "note", ("1 end of a contour faces" if len(read.loose) == 1 else
                        f"{len(read.loose)} ends of contours face") + " no other of that height.",
                        "What is drawn stays as it is.", None, [(float(x), float(y)) for x, y in read.loose[:200]])
            )  # fmt: skip
        if read.crossings:
            found.append(
                Finding("crossings", "caution", f"Contours of different heights cross at {_times(len(read.crossings))}.",
                        "Both cannot be right; the mean of both is taken there.", None, read.crossings[:200])
            )  # fmt: skip
        return found

    def _cells(self, sheet: Sheet, params: ContourParams, frame: Frame) -> list[Finding]:
        across, _ = frame.grid.metres_per_unit()
        spacing = sheet.spacing * across
        cell = params.cell_size or frame.grid.metres_per_cell()[0]
        fitting = max([size for size in _SIZES if size <= spacing / 4], default=_SIZES[0])
        fix = Fix(f"Use {fitting:g} m", {"cell_size": fitting})
        if cell * _COARSE > spacing:
            return [Finding("coarse", "caution", f"Contours lie {spacing:.1f} m apart on average; cells of {cell:g} m hold "
                            "several.", "Relief between them is lost.", fix)]  # fmt: skip
        if cell * _FINE < spacing:
            return [Finding("fine", "note", f"Contours lie {spacing:.1f} m apart on average; cells of {cell:g} m show no more "
                            f"than {fitting:g} m would.", "They cost time and disk.", fix)]  # fmt: skip
        return []

    def run(self, inputs: Inputs, params: ContourParams, frame: Frame, progress: Progress) -> Results:
        (contours,), crs = inputs.features("contours"), frame.grid.crs
        read = _read(contours, crs, params.height_field or likely_height_field(contours) or "")
        lines, heights = read.sheet.contours, read.sheet.heights
        if params.labels == "as_neighbours":
            heights = with_heights(read.sheet, read.suspects)
        if params.join_gaps:
            pieces = joined(replace(read.sheet, heights=heights), params.join_gaps)
            lines, heights = (
                [*lines, *(line for line, _ in pieces)],
                np.append(heights, [height for _, height in pieces]),
            )
        sheet = Sheet(
            lines, heights, _spots(inputs, crs), _lines(inputs, "streams", crs), polygons_of(inputs.features("lakes"), crs),
            _lines(inputs, "coast", crs),
        ).clear()  # fmt: skip
        if not sheet.contours:
            raise InputError("Every contour runs through a lake and none is left. Choose other lakes, or none.")
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        reach = params.reach_limit or np.inf
        surface: Surface
        if params.method == "triangulation":
            edge = params.edge_limit or np.inf
            surface = contour_facets(sheet, grid, reach, edge, frame.unit)
        else:
            surface = ContourSpline(sheet, grid, params.tension, params.smoothing, reach, params.drained, frame.unit)
        surface.vertical_datum = frame.vertical_datum
        return Results(surface=within_area(surface, inputs))
