"""Image pair: tie points, models brought together, heights, orthoimages, and how far the ground jumps, as
operations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field, model_validator

from yama.terrain.cloud import Gathered
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import inside, polygons_of
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, FloatArray, Grid, turn_between
from yama.terrain.images import Image
from yama.terrain.operations.area import about_bounds
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import CellSize, HeightMetres, Params, Titles, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of
from yama.terrain.stereo.adjust import Adjusted
from yama.terrain.stereo.control import Offset
from yama.terrain.stereo.heights import Cloud
from yama.terrain.stereo.matching import Matching
from yama.terrain.stereo.ortho import JoinedOrtho, JumpSurface, OrthoSurface
from yama.terrain.stereo.pair import PRESETS, Pair, heights_on, offset_at
from yama.terrain.stereo.rays import Sensor
from yama.terrain.stereo.tie_points import TiePoints
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import ArraySurface, Surface
from yama.terrain.surface.accompanied import Accompanied
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS

ELLIPSOID = "WGS 84 ellipsoid"

_PAIR = {"left": Role("image", "Left image"), "right": Role("image", "Right image")}
_MODEL = Role("table", "Adjusted models", optional=True, column="model")
_GEOID = Role("surface", "Geoid", optional=True)
_CONTROL = Role("points", "Control heights", optional=True)
_TURNS = 4
_RESTS = 0.2  # metres by which models that are in place still move
_BARE = 0.22  # of an image's diagonal
_ADVICE = 2.0  # cells of the surface for one of the images

_TIE_COLUMNS = (
    Column("number", "Number", type="whole"),
    Column("left_col", "Column left", "px", decimals=2),
    Column("left_row", "Row left", "px", decimals=2),
    Column("right_col", "Column right", "px", decimals=2),
    Column("right_row", "Row right", "px", decimals=2),
    Column("likeness", "Likeness", decimals=2),
    Column("precision", "Precision", "px", decimals=3),
    Column("residual", "Residual", "px", decimals=2),
    Column("used", "Used", type="yes_no"),
)
_MODEL_COLUMNS = (
    Column("image", "Image", type="text"),
    Column("model", "Coefficients", type="text"),
    *(Column(name, title, "px", decimals=3) for name, title in (
        ("c0", "Columns"), ("c1", "Columns along columns"), ("c2", "Columns along rows"),
        ("r0", "Rows"), ("r1", "Rows along columns"), ("r2", "Rows along rows"))),
)  # fmt: skip


def _pair_of(inputs: Inputs) -> Pair:
    return Pair.of(inputs.image("left"), inputs.image("right"))


def _zero_of(inputs: Inputs) -> ZeroLevel:
    return ZeroLevel(next(iter(inputs.surfaces("geoid")), None))


def _about_geoid(inputs: Inputs) -> list[Finding]:
    """Whether what is chosen as geoid can be that of what the images show."""
    try:
        for role in ("left", "image"):
            for one in inputs.images(role) if role in inputs.roles else []:
                _zero_of(inputs).require(one.bounds)
    except InputError as error:
        return [Finding("geoid_surface", "stop", str(error))]
    return []


def _told_geoid(inputs: Inputs) -> str:
    given = inputs.surfaces("geoid")
    return given[0].fingerprint if given else ""


@dataclass(frozen=True)
class Models:
    """Adjusted models as a table has them. geoid: fingerprint of what they were adjusted with."""

    shifts: dict[str, tuple[float, ...]]
    geoid: str
    datum: str
    range: tuple[float, float] | None


def models_of(table: Table) -> Models:
    """What a table of adjusted models says. Raises InputError where it is another table."""
    if [column.name for column in table.columns] != [column.name for column in _MODEL_COLUMNS]:
        raise InputError("That table holds no adjusted models. Choose one that Adjust models made.")
    shifts = {str(row[1]): tuple(float(value or 0.0) for value in row[2:]) for row in table.rows}  # type: ignore[arg-type]
    searched = table.facts.get("heights")
    return Models(shifts, str(table.facts.get("geoid", "")), str(table.facts.get("datum", "")),
                  (float(searched[0]), float(searched[1])) if searched else None)  # fmt: skip


def _models(inputs: Inputs) -> Models | None:
    return models_of(inputs.table("model")) if inputs.has("model") else None


def sensor_of(image: Image, models: Models | None) -> Sensor:
    """The image's model, adjusted where there is an adjustment. Raises InputError where that belongs to others."""
    if models is None:
        return Sensor(image.model)
    if image.told not in models.shifts:
        raise InputError(f"The adjusted models are not those of {image.name}. Choose the ones that were made from it.")
    c0, c1, c2, r0, r1, r2 = models.shifts[image.told]
    return Sensor(image.model, (c0, c1, c2, r0, r1, r2))


def usual_range(pair: Pair, models: Models | None) -> tuple[float, float]:
    """Heights above the ellipsoid between which ground is looked for where nothing else is said."""
    return (models.range if models else None) or pair.heights


def matching_of(preset: str, smoothness: float, likeness: float) -> Matching:
    """How images are matched by a preset, with changes of height made dearer or cheaper."""
    base = PRESETS[preset]
    return replace(
        base, steep=max(round(base.steep * smoothness), 1), jump=max(round(base.jump * smoothness), 2),
        likeness=min(likeness, base.likeness) if preset == "speckled" else likeness,
    )  # fmt: skip


def _about_models(inputs: Inputs) -> list[Finding]:
    """What is wrong with adjusted models, and with a geoid that they were not made with."""
    try:
        models = _models(inputs)
        images = [
            one for role in ("left", "right", "image", "second") if role in inputs.roles for one in inputs.images(role)
        ]
        for one in images:
            sensor_of(one, models)
    except InputError as error:
        return [Finding("model", "stop", str(error))]
    if models is None:
        return []
    if "geoid" in inputs.roles and models.geoid != _told_geoid(inputs):
        said = "with a geoid" if models.geoid else "without a geoid"
        return [Finding("geoid", "stop", f"The models were adjusted {said}.", "Choose the same here, or heights would be off by "
                        "its height.")]  # fmt: skip
    return []


def _about_pair(inputs: Inputs) -> list[Finding]:
    """What both images are to each other."""
    try:
        pair = _pair_of(inputs)
        seen = pair.geometry()
    except InputError as error:
        return [Finding("pair", "stop", str(error))]
    notes = [
        Finding("geometry", "note", f"The rays are {seen.angle:.1f}° apart; one cell of parallax is worth {seen.height_of_cell:.2f} m of "
                f"height. The two images share {100 * min(seen.overlap):.0f} % of their ground.")
    ]  # fmt: skip
    if seen.angle < 8:
        notes.append(Finding("narrow", "caution", f"Rays only {seen.angle:.1f}° apart give uncertain heights.",
                             "15° to 35° are usual."))  # fmt: skip
    return notes


def _about_zero(inputs: Inputs, frame: Frame) -> list[Finding]:
    """What the heights will be counted from."""
    if inputs.has("geoid") or inputs.has("control"):
        return []
    if "model" in inputs.roles and inputs.has("model") and models_of(inputs.table("model")).datum:
        return []
    if frame.vertical_datum in ("", ELLIPSOID):
        return []
    return [Finding("zero", "caution", f"Heights will be above the ellipsoid; the frame's are above {frame.vertical_datum}.",
                    "Choose a geoid, or points whose heights are known.")]  # fmt: skip


class TiePointsParams(Params):
    """How many tie points are looked for, and between which heights."""

    count: int = Field(
        300,
        ge=20,
        le=5000,
        title="About",
        description="Squares of a grid over the overlap; one tie point is looked for in each.",
    )
    low: Annotated[HeightMetres, Unset("as the model")] | None = Field(
        None, title="Heights from", description="Lowest ground, above the ellipsoid."
    )
    high: Annotated[HeightMetres, Unset("as the model")] | None = Field(
        None, title="to", description="Highest ground, above the ellipsoid."
    )

    @model_validator(mode="after")
    def _in_order(self) -> TiePointsParams:
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("the lowest height must be below the highest")
        return self


def _between(pair: Pair, low: float | None, high: float | None) -> tuple[float, float]:
    """Heights above the ellipsoid between which ground is looked for. Raises InputError where they are none."""
    least, most = pair.heights
    found = (least if low is None else low, most if high is None else high)
    if found[0] >= found[1]:
        raise InputError(
            f"Ground from {found[0]:g} to {found[1]:g} m is asked for; the models are meant for {least:g} to {most:g} m."
        )
    return found


def tie_table(ties: TiePoints, residuals: FloatArray, used: npt.NDArray[np.bool_], facts: dict[str, Any]) -> Table:
    """Tie points as a table, numbered from 1."""
    rows = [
        (i + 1, *(round(float(value), 4) for value in ties.cells[i]), round(float(ties.likeness[i]), 4),
         round(float(ties.precision[i]), 4), round(float(residuals[i]), 4) if np.isfinite(residuals[i]) else None, bool(used[i]))
        for i in range(len(ties))
    ]  # fmt: skip
    return Table(_TIE_COLUMNS, rows, facts)


def ties_of(table: Table) -> tuple[TiePoints, npt.NDArray[np.int64]]:
    """Tie points of a table, and their numbers. Raises InputError where it is another table."""
    if [column.name for column in table.columns] != [column.name for column in _TIE_COLUMNS]:
        raise InputError("That table holds no tie points. Choose one that Tie points made.")
    columns = [np.array([float("nan") if value is None else float(value) for value in table.column(name)])
               for name in ("left_col", "left_row", "right_col", "right_row", "likeness", "precision")]  # type: ignore[arg-type]  # fmt: skip
    return TiePoints(*columns), np.array(table.column("number"), np.int64)


@register
class FindTiePoints(Operation[TiePointsParams]):
    """Places that two images show alike."""

    name = "tie_points"
    title = "Tie points"
    stage = "Build"
    summary = "Places that two overlapping images show alike, measured to hundredths of a cell."
    inputs = _PAIR
    outputs = {"ties": Output("table", "Tie points")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: TiePointsParams, frame: Frame) -> list[Finding]:
        return _about_pair(inputs)

    def run(self, inputs: Inputs, params: TiePointsParams, frame: Frame, progress: Progress) -> Results:
        pair = _pair_of(inputs)
        ties = pair.tie_points(params.count, _between(pair, params.low, params.high), part_of(progress, 0.0, 0.95))
        _, found = pair.adjusted(ties.cells)
        return Results(ties=tie_table(ties, found.sizes, found.used, _facts(pair, found, None)))


def _facts(pair: Pair, found: Adjusted, moved: Offset | None) -> dict[str, Any]:
    seen = pair.geometry()
    facts: dict[str, Any] = {
        "left": pair.left.name, "right": pair.right.name, "angle": round(seen.angle, 2), "rms": round(found.rms, 4),
        "used": int(found.used.sum()), "found": len(found.used), "metres_per_cell": round(seen.height_of_cell, 4),
    }  # fmt: skip
    if moved is not None:
        facts["control"] = {"count": moved.count, "east": round(moved.east, 3), "north": round(moved.north, 3),
                            "up": round(moved.up, 3), "spread": round(moved.spread, 3), "placed": moved.placed}  # fmt: skip
    return facts


class AdjustParams(Params):
    """How models are brought together."""

    correction: Annotated[
        Literal["shift", "affine"], Titles({"shift": "moved", "affine": "moved, turned and scaled"})
    ] = Field(
        "shift", title="Images are", description="Affine: also turned, scaled and sheared, which needs 20 tie points."
    )
    most: Annotated[float, Unset("by their spread")] | None = Field(
        None,
        gt=0,
        le=50,
        title="Leave out over",
        description="Tie points whose rays miss each other by more cells are left out.",
    )
    left_out: list[int] = Field(
        [], max_length=5000, title="Left out", description="Numbers of tie points that are left out whatever they say."
    )
    added: list[tuple[float, float]] = Field(
        [],
        max_length=200,
        title="Added",
        description="Columns and rows of the left image at which a tie point is measured as well.",
    )
    preset: Annotated[Literal["flat", "hilly", "steep", "built_up", "speckled"], Titles(
        {"flat": "flat", "hilly": "hilly", "steep": "steep", "built_up": "built-up", "speckled": "speckled"})] = Field(
        "hilly", title="Ground", description="How heights are found that control heights are compared with.")  # fmt: skip


def _control(inputs: Inputs, frame: Frame) -> tuple[FloatArray, FloatArray, FloatArray] | None:
    given = inputs.all_points("control")
    if not given:
        return None
    held = given[0].in_crs(frame.grid.crs)
    known = np.isfinite(held.z)
    return held.x[known], held.y[known], held.z[known] * UNITS[held.unit]


def _about_control(inputs: Inputs, frame: Frame) -> list[Finding]:
    known = _control(inputs, frame)
    if known is None or known[0].size >= 3:
        return []
    return [
        Finding(
            "control",
            "stop",
            f"{known[0].size} control heights are too few; 3 are needed.",
            "Choose other points, or none.",
        )
    ]


def _brought_to(
    pair: Pair, inputs: Inputs, frame: Frame, heights: tuple[float, float], preset: str, progress: Progress
) -> tuple[Pair, Offset | None]:
    """The pair with models that agree with control heights, where there are such. Raises InputError where none lies
    on it."""
    known = _control(inputs, frame)
    if known is None:
        return pair, None
    zero, how = _zero_of(inputs), PRESETS[preset]
    total = Offset(0.0, 0.0, 0.0, (0.0, 0.0, 0.0), 0, 0.0, False)
    for turn in range(_TURNS):  # what is far off is compared with the wrong ground at first
        found = offset_at(
            pair, frame.grid, zero, heights, how, *known, part_of(progress, turn / _TURNS, (turn + 1) / _TURNS)
        )
        if found is None:
            raise InputError(
                "Fewer than 3 control heights lie where both images show the ground. Choose other points, or none."
            )
        pair = pair.moved(found)
        total = replace(found, east=total.east + found.east, north=total.north + found.north, up=total.up + found.up)
        heights = heights[0] + found.up, heights[1] + found.up
        if max(abs(found.east), abs(found.north), abs(found.up)) < _RESTS:
            break
    return pair, total


def model_table(pair: Pair, facts: dict[str, Any]) -> Table:
    """Adjusted models as a table."""
    rows: list[tuple[Cell, ...]] = [(image.name, image.told, *(round(float(value), 6) for value in sensor.shift))
            for image, sensor in zip((pair.left, pair.right), pair.sensors, strict=True)]  # fmt: skip
    return Table(_MODEL_COLUMNS, rows, facts)


def _about_spread(image: Image, ties: TiePoints) -> list[Finding]:
    """Corners of the left image that have no tie point anywhere near."""
    sensor, height = Sensor(image.model), sum(image.model.heights) / 2
    corners = [(c, r) for r in (0.0, image.rows - 1.0) for c in (0.0, image.cols - 1.0)]
    places = np.array([*corners, ((image.cols - 1) / 2, (image.rows - 1) / 2)])
    lon, lat = sensor.ground_of(places[:, 0], places[:, 1], height)
    cell = image.ground_size
    found = []
    for k, (col, row) in enumerate(corners):
        away = float(np.min(np.hypot(ties.left_col - col, ties.left_row - row), initial=np.inf)) * cell
        if away > _BARE * np.hypot(image.rows, image.cols) * cell:
            side = f"{'north' if lat[k] > lat[4] else 'south'}-{'east' if lon[k] > lon[4] else 'west'}"
            far = f"{away / 1000:.1f} km" if away >= 1000 else f"{away:.0f} m"
            found.append(Finding("bare", "caution", f"No tie point lies within {far} of the {side} corner of the left image.",
                                 "Heights may tilt there. Add some by hand, or look for more."))  # fmt: skip
    return found


@register
class AdjustModels(Operation[AdjustParams]):
    """Models of two images brought together at tie points, and onto the ground at known heights."""

    name = "adjust_models"
    title = "Adjust models"
    stage = "Build"
    summary = "Brings the models of two images together at tie points, and onto known heights."
    inputs = {**_PAIR, "ties": Role("table", "Tie points", column="left_col"), "control": _CONTROL, "geoid": _GEOID}
    outputs = {"model": Output("table", "Adjusted models"), "ties": Output("table", "Residuals of tie points")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: AdjustParams, frame: Frame) -> list[Finding]:
        findings = [*_about_pair(inputs), *_about_control(inputs, frame), *_about_geoid(inputs)]
        try:
            ties, numbers = ties_of(inputs.table("ties"))
        except InputError as error:
            return [*findings, Finding("ties", "stop", str(error))]
        if params.correction == "affine" and len(ties) < 20:
            findings.append(Finding("few", "stop", f"{len(ties)} tie points are too few to turn and scale images; 20 are needed.",
                                    "Only move them.", Fix("Only move", {"correction": "shift"})))  # fmt: skip
        if not any(one.weight == "stop" for one in findings):
            findings += _about_spread(inputs.image("left"), ties.only(~np.isin(numbers, params.left_out)))
        return findings + _about_zero(inputs, frame)

    def run(self, inputs: Inputs, params: AdjustParams, frame: Frame, progress: Progress) -> Results:
        ties, numbers = ties_of(inputs.table("ties"))
        given = _pair_of(inputs)
        for place in params.added:
            ties = ties.joined(given.tie_at(place))
        numbers = np.arange(1, len(ties) + 1) if params.added else numbers
        pair, found = given.adjusted(ties.cells, params.correction, params.most, np.isin(numbers, params.left_out))
        heights = pair.search_range(found.met.height[found.used])
        moved, by = _brought_to(pair, inputs, frame, heights, params.preset, progress)
        up = 0.0 if by is None else by.up
        facts = {**_facts(pair, found, by), "geoid": _told_geoid(inputs), "heights": [heights[0] + up, heights[1] + up],
                 "datum": _datum(inputs, frame)}  # fmt: skip
        return Results(
            model=model_table(moved, facts), ties=tie_table(ties, found.sizes, found.used, _facts(pair, found, by))
        )


def _datum(inputs: Inputs, frame: Frame) -> str:
    return frame.vertical_datum if inputs.has("geoid") or inputs.has("control") else ""


class ImagePairParams(Params):
    """How two images are matched, and what is kept."""

    preset: Annotated[Literal["flat", "hilly", "steep", "built_up", "speckled"], Titles(
        {"flat": "flat", "hilly": "hilly", "steep": "steep", "built_up": "built-up", "speckled": "speckled"},
        {"flat": "Heights hardly change: smooth, with few holes.", "hilly": "Rolling ground and woods.",
         "steep": "Heights change all the time: follows slopes and cliffs.",
         "built_up": "Heights jump where grey values do: walls and roofs stay sharp.",
         "speckled": "Radar: compares larger areas, because single cells say little."})] = Field("hilly", title="Ground")  # fmt: skip
    low: Annotated[HeightMetres, Unset("by tie points")] | None = Field(
        None, title="Heights from", description="Lowest ground, above the ellipsoid."
    )
    high: Annotated[HeightMetres, Unset("by tie points")] | None = Field(
        None, title="to", description="Highest ground, above the ellipsoid."
    )
    smoothness: float = Field(
        1.0, ge=0.25, le=4, description="Above 1: changes of height cost more. Below: they cost less."
    )
    likeness: float = Field(
        0.5, ge=0, le=0.95, title="Least likeness", description="Cells where both images look less alike stay empty."
    )
    cell_size: CellSize | None = Field(
        None, gt=0, description="The frame's where not given. About twice the image's is best."
    )
    points: bool = Field(
        False, title="Points too", description="Every place that was matched, as a point cloud with its standard error."
    )
    bounds: tuple[float, float, float, float] | None = Field(
        None, title="Rectangle", description="West, south, east, north in the frame's CRS: only what lies in it."
    )

    @model_validator(mode="after")
    def _in_order(self) -> ImagePairParams:
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("the lowest height must be below the highest")
        return self


@register
class ImagePair(Operation[ImagePairParams]):
    """Heights from two overlapping images."""

    name = "image_pair"
    title = "Image pair"
    stage = "Build"
    summary = "Heights from two overlapping images with rational polynomials."
    inputs = {
        **_PAIR, "model": _MODEL, "control": _CONTROL, "geoid": _GEOID,
        "empty": Role("features", "Left empty", many=True, optional=True, of=("polygons",)),
    }  # fmt: skip
    outputs = {
        "surface": Output("surface", "Surface", "height"),
        "uncertainty": Output("surface", "Standard error", "spread"),
        "likeness": Output("surface", "Likeness", "likeness"),
        "points": Output("cloud", "Points"),
        "model": Output("table", "Adjusted models", when="asked"),
        "ties": Output("table", "Tie points", when="asked"),
    }
    heights_in = "metres"
    previews = "none"

    def outputs_for(self, params: ImagePairParams) -> Mapping[str, Output]:
        return {name: one for name, one in self.outputs.items() if params.points or name != "points"}

    def cell_size_of(self, params: ImagePairParams) -> float | None:
        return params.cell_size

    def cost(self, inputs: Inputs, params: ImagePairParams, frame: Frame) -> float | None:
        left, right = inputs.image("left"), inputs.image("right")
        return 6.0 + 6e-6 * min(left.rows * left.cols, right.rows * right.cols)

    def check(self, inputs: Inputs, params: ImagePairParams, frame: Frame) -> list[Finding]:
        findings = _about_pair(inputs)
        if any(one.weight == "stop" for one in findings):
            return findings
        findings += [*_about_models(inputs), *_about_control(inputs, frame), *_about_geoid(inputs)]
        findings += about_bounds(params.bounds, frame)
        if any(one.weight == "stop" for one in findings):
            return findings
        pair = _pair_of(inputs)
        seen = pair.geometry()
        x, y = turn_between("EPSG:4326", frame.grid.crs).transform(seen.ring[:, 0], seen.ring[:, 1])
        box = Bounds(float(np.min(x)), float(np.min(y)), float(np.max(x)), float(np.max(y)))
        if not np.isfinite(box).all() or frame.grid.bounds.intersection(box) is None:
            return [
                *findings,
                Finding(
                    "outside",
                    "stop",
                    "What both images show lies outside the frame.",
                    "Choose others, or move the frame.",
                ),
            ]
        cell = params.cell_size or frame.grid.metres_per_cell()[0]
        if cell < 1.5 * seen.cell:
            best = float(f"{_ADVICE * seen.cell:.2g}")
            findings.append(Finding("fine", "caution", f"Cells of {cell:g} m are finer than images of {seen.cell:.2g} m can fill.",
                                    "About twice the image's cells is best.", Fix(f"Cells of {best:g} m", {"cell_size": best})))  # fmt: skip
        elif cell > 6 * seen.cell:
            findings.append(
                Finding(
                    "coarse", "note", f"Cells of {cell:g} m leave out detail that images of {seen.cell:.2g} m have."
                )
            )
        return findings + _about_zero(inputs, frame)

    def run(self, inputs: Inputs, params: ImagePairParams, frame: Frame, progress: Progress) -> Results:
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        if params.bounds is not None:
            grid = grid.part(grid.window_over(Bounds(*params.bounds)).clipped(grid.rows, grid.cols))
        models = _models(inputs)
        pair = _pair_of(inputs)
        tables: dict[str, Table] = {}
        if models is None:
            given = _between(pair, params.low, params.high)
            ties = pair.tie_points(heights=given, progress=part_of(progress, 0.0, 0.1))
            pair, found = pair.adjusted(ties.cells)
            heights = pair.search_range(found.met.height[found.used])
            pair, by = _brought_to(pair, inputs, frame, heights, params.preset, part_of(progress, 0.1, 0.35))
            up = 0.0 if by is None else by.up
            heights = heights[0] + up, heights[1] + up
            facts = {
                **_facts(pair, found, by),
                "geoid": _told_geoid(inputs),
                "heights": list(heights),
                "datum": _datum(inputs, frame),
            }
            tables = {"model": model_table(pair, facts), "ties": tie_table(ties, found.sizes, found.used, facts)}
        else:
            pair = replace(pair, sensors=(sensor_of(pair.left, models), sensor_of(pair.right, models)))
            heights = usual_range(pair, models)
            tables = {"model": inputs.table("model")}
        heights = (heights[0] if params.low is None else params.low, heights[1] if params.high is None else params.high)
        how = matching_of(params.preset, params.smoothness, params.likeness)
        gather: list[Cloud] | None = [] if params.points else None
        made = heights_on(pair, grid, _zero_of(inputs), heights, how, part_of(progress, 0.35, 0.97), gather=gather)
        cells = [made.height, made.uncertainty, made.likeness]
        if inputs.has("empty"):
            covered = inside(polygons_of(inputs.features("empty"), grid.crs), grid) > 0
            for one in cells:
                one[covered] = np.nan
        if not np.isfinite(cells[0]).any():
            raise InputError("Nothing could be matched: both images look alike nowhere on the frame. Water, cloud or snow may cover "
                             "it, or the heights that were asked for are not those of the ground.")  # fmt: skip
        said = models.datum if models is not None else _datum(inputs, frame)
        datum = said or ELLIPSOID
        height, unsure, alike = (
            ArraySurface(one, grid, unit, datum) for one, unit in zip(cells, ("m", "m", ""), strict=True)
        )
        surface: Surface = Accompanied(height, uncertainty=unsure)
        clouds = {} if gather is None else {"points": _gathered(gather, grid)}
        return Results(surface=surface, uncertainty=unsure, likeness=alike, **clouds, **tables)


def _gathered(clouds: list[Cloud], grid: Grid) -> Gathered:
    """Matched places as a cloud: those that lie on the grid."""
    col, row, z, error, likeness = (
        np.concatenate([getattr(one, name) for one in clouds]) for name in ("col", "row", "z", "error", "likeness")
    )
    on = (col >= -0.5) & (col <= grid.cols - 0.5) & (row >= -0.5) & (row <= grid.rows - 0.5)
    return Gathered(grid, col[on], row[on], z[on], "m", {"standard_error": error[on], "likeness": likeness[on]})


class OrthoimageParams(Params):
    """How fine the cells of an orthoimage are."""

    finer: int = Field(
        1,
        ge=1,
        le=8,
        title="Finer than the surface",
        description="So many times as many cells along each side, where the image shows more than the surface's cells.",
        json_schema_extra={"unit": "×"},
    )


@register
class Orthoimage(Operation[OrthoimageParams]):
    """An image laid on a surface."""

    name = "orthoimage"
    title = "Orthoimage"
    stage = "Build"
    summary = "An image laid on a surface, cell by cell; ground that it cannot see stays empty, or is taken from a second image."
    inputs = {
        "image": Role("image", "Image"),
        "second": Role("image", "Second image", optional=True),
        "surface": Role("surface", "Surface", quantity="height"),
        "model": _MODEL,
        "geoid": _GEOID,
    }
    outputs = {"surface": Output("surface", "Orthoimage", "grey")}
    heights_in = "metres"

    def check(self, inputs: Inputs, params: OrthoimageParams, frame: Frame) -> list[Finding]:
        return [
            *_about_models(inputs),
            *_about_reach(inputs, ("image", "second") if inputs.has("second") else ("image",)),
            *_about_geoid(inputs),
            *_about_level(inputs),
        ]

    def run(self, inputs: Inputs, params: OrthoimageParams, frame: Frame, progress: Progress) -> Results:
        models, zero, surface = _models(inputs), _zero_of(inputs), inputs.surface("surface")
        surface = fitted(surface, surface.grid.finer(params.finer))

        def laid(role: str) -> OrthoSurface:
            image = inputs.image(role)
            return OrthoSurface(surface, image, sensor_of(image, models), zero)

        return Results(surface=JoinedOrtho(laid("image"), laid("second")) if inputs.has("second") else laid("image"))


def _about_reach(inputs: Inputs, roles: tuple[str, ...]) -> list[Finding]:
    """Whether images and surface show ground in common."""
    surface = inputs.surface("surface")
    found = []
    for role in roles:
        image = inputs.image(role)
        turn = turn_between(image.crs, surface.grid.crs)
        box = Bounds(*(float(value) for value in turn.transform_bounds(*image.bounds)))
        if not np.isfinite(box).all() or surface.grid.bounds.intersection(box) is None:
            found.append(Finding("outside", "stop", f"{image.name} shows no ground of the surface.", "Choose others."))
    return found


def _about_level(inputs: Inputs) -> list[Finding]:
    """Whether the surface's heights are counted from where the models see them."""
    datum = inputs.surface("surface").vertical_datum
    if inputs.has("geoid") or inputs.has("model") or datum in ("", ELLIPSOID):
        return []
    return [Finding("zero", "caution", f"The surface's heights are above {datum}, those of the image's model above the ellipsoid.",
                    "Choose a geoid, or adjusted models; else the image lies beside where it should.")]  # fmt: skip


class JumpParams(Params):
    """How far a jump is looked for."""

    most: int = Field(
        5, ge=1, le=20, title="Up to", description="Cells of the surface up to which a jump is looked for."
    )
    likeness: float = Field(
        0.5,
        ge=0,
        le=0.95,
        title="Least likeness",
        description="Cells where both orthoimages look less alike stay empty.",
    )


@register
class ImageJump(Operation[JumpParams]):
    """Where a surface is wrong, as two images see it."""

    name = "image_jump"
    title = "How far the ground jumps"
    stage = "Judge"
    summary = "Where a surface is wrong by two images: too high where positive. Needs no checkpoint."
    inputs = {**_PAIR, "surface": Role("surface", "Surface", quantity="height"), "model": _MODEL, "geoid": _GEOID}
    outputs = {"surface": Output("surface", "Error by images", "difference")}
    heights_in = "metres"

    def check(self, inputs: Inputs, params: JumpParams, frame: Frame) -> list[Finding]:
        return [
            *_about_pair(inputs),
            *_about_models(inputs),
            *_about_reach(inputs, ("left", "right")),
            *_about_geoid(inputs),
            *_about_level(inputs),
        ]

    def run(self, inputs: Inputs, params: JumpParams, frame: Frame, progress: Progress) -> Results:
        models, zero, surface = _models(inputs), _zero_of(inputs), inputs.surface("surface")
        left, right = (
            OrthoSurface(surface, one, sensor_of(one, models), zero)
            for one in (inputs.image("left"), inputs.image("right"))
        )
        return Results(surface=JumpSurface(left, right, params.most, params.likeness))
