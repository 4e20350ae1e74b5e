"""Raster files of heights: GeoTIFF (COG among them), ASCII grid and NetCDF, through rasterio."""

from __future__ import annotations

import math
import re
import weakref
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from affine import Affine
from pyproj import Transformer

from yama.terrain.errors import GridError, InputError
from yama.terrain.findings import Finding, Fix, refuse
from yama.terrain.formats import text_grid
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.netcdf_size import expected_size
from yama.terrain.formats.point_checks import USUAL_VOIDS
from yama.terrain.formats.straight import CODES, Cells, Placing, straighten, tile_place
from yama.terrain.grid import MAX_CELLS, Grid, crs_name, horizontal, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.scratch import Scratch
from yama.terrain.surface import Statistics, StoredSurface, Surface, has_mask, sample
from yama.terrain.units import UNITS, WORDS, ask_unit, said_by_crs
from yama.terrain.voids import HoleFinder, Holes

rasterio = later("rasterio")

_LARGEST_SIDE = 1_000_000
_STRIP_CELLS = 2_000_000
_STRIP_MOST = 32_000_000  # cells read at once, though the file's tiles are taller
_CELLS_A_BYTE = 20_000  # the best packing of level ground has a quarter of this
_NO_MASK = np.empty((0, 0), np.uint8)
_CELLS_TRUSTED = 100_000_000
_TIFF_STARTS = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_HIGHEST_GROUND = 8_900.0  # metres; what is higher is not ground in metres
_PASSES = 3
_STRAIGHT = "straight.tif"
_MOST_ASKEW = 16
"""Times its own cells that a turned raster may have on a north-up grid; one that is turned by 45 degrees has twice as many."""
_PICTURE = Fix("It is a picture", {"picture": True})
_MOST_ASKED = 8
"""Bands that are offered as answers; others can be declared by their number."""


def driver_of(start: bytes) -> str:
    """The driver that reads a file with these first bytes; empty where it is no raster."""
    if start[:4] in _TIFF_STARTS:
        return "GTiff"
    if re.match(rb"\s*ncols\s+\d+\s+nrows\s+\d+", start, re.IGNORECASE):
        return "AAIGrid"
    if start[:8] == b"\x89PNG\r\n\x1a\n":
        return "PNG"
    if start[:3] == b"\xff\xd8\xff":
        return "JPEG"
    if start[:3] == b"CDF" or start[:8] == b"\x89HDF\r\n\x1a\n":
        return "netCDF"
    return ""


@dataclass
class RasterFacts:
    """What a raster says of itself, and, once its cells were read, what they say.

    statistics, holes: over all cells, with `voids` taken as empty. voids: value and number of cells that mean empty
    though the file does not say so.
    """

    name: str
    rows: int
    cols: int
    bands: int
    cell_type: str
    crs: str
    nodata: float | None
    grid: dict[str, Any] | None
    driver: str = "GTiff"
    unit: str = "m"
    vertical_datum: str = ""
    statistics: Statistics | None = None
    holes: Holes | None = None
    voids: list[tuple[float, int]] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    band: int = 1
    placing: Placing | None = None
    kind = "surface"

    @property
    def is_plain(self) -> bool:
        """Whether it can be read as it is, north up and in heights."""
        return self.placing is not None and self.placing.is_straight and not self.coded

    coded: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            **{name: value for name, value in vars(self).items() if name not in ("placing", "coded")},
            "kind": self.kind,
            "statistics": self.statistics.to_dict() if self.statistics else None,
            "holes": self.holes.to_dict() if self.holes else None,
            "findings": [finding.to_dict() for finding in self.findings],
        }


@dataclass
class _Cells:
    """What one pass over all cells found."""

    state: Any
    empty: int
    holes: Holes


def header(path: str | Path, declared: Declared = NOTHING, name: str = "") -> RasterFacts:
    """What a raster's header says, at once. `name` is what people call the file.

    Raises InputError where the file cannot be opened as a raster at all.
    """
    path = Path(path)
    name = name or path.name
    with path.open("rb") as file:
        driver = driver_of(file.read(512)) or "GTiff"
    size = path.stat().st_size
    if driver == "netCDF" and (expected := expected_size(path)) and size < expected:
        raise InputError(
            f"{name} has {size} of the {expected} bytes that its header says. It is cut short; get it again."
        )
    try:
        with rasterio.open(path, driver=driver) as dataset:
            if not dataset.count:
                raise InputError(
                    f"{name} holds {len(dataset.subdatasets)} variables and none of them alone is a surface. "
                    "Save the heights as a GeoTIFF and add that."
                )
            own = dataset.crs or dataset.gcps[1]
            crs = declared.crs or (crs_name(parse_crs(own.to_wkt())) if own else "")
            colours = [one.name for one in dataset.colorinterp]
            heights = [number for number, colour in enumerate(colours, start=1) if colour != "alpha"]
            band = declared.band or heights[0] if heights else 1
            if band > dataset.count:
                raise InputError(f"{name} has {dataset.count} bands, no band {band}.")
            facts = RasterFacts(
                name=name,
                rows=dataset.height,
                cols=dataset.width,
                bands=len(heights),
                cell_type=dataset.dtypes[band - 1],
                crs=crs,
                nodata=dataset.nodatavals[band - 1],
                grid=None,
                driver=driver,
                band=band,
                coded=declared.coded,
                placing=_placing(dataset, declared),
            )
            if declared.tile:
                facts.crs = declared.crs or "EPSG:3857"
            titles = [dataset.descriptions[number - 1] or "" for number in heights]
            says_unit = dataset.units[band - 1] or dataset.tags().get("HEIGHT_UNIT", "")
            facts.vertical_datum = declared.vertical_datum or dataset.tags().get("VERTICAL_DATUM", "")
    except (rasterio.errors.RasterioError, OSError) as error:
        kind = {
            "GTiff": "GeoTIFF",
            "AAIGrid": "ASCII grid",
            "netCDF": "NetCDF file",
            "PNG": "PNG picture",
            "JPEG": "JPEG picture",
        }[driver]
        raise InputError(
            f"{name} is not a readable {kind} (it may be damaged, cut short or of another kind). "
            "Get the file again, or convert it to GeoTIFF."
        ) from error
    stop = facts.findings.append
    placing = facts.placing
    if placing is None:
        stop(Finding("no_place", "stop", f"{name} does not say where it lies.",
                     "Choose it together with its world file and the text of its CRS, or zip them; an image together with the text of "
                     "its coefficients. Or say which tile of the web map scheme it is, as zoom/column/row.",
                     answers=[Fix("Use this tile", {"tile": ""})]))  # fmt: skip
    elif not facts.crs:
        stop(Finding("no_crs", "stop", f"{name} does not say its CRS.",
                     "Without one its place is unknown. Name it here; if it is an image, zip it with the text of its coefficients.",
                     answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
    elif parse_crs(facts.crs).is_geographic and not _in_degrees(facts):
        stop(Finding("not_degrees", "stop", f"{name} says degrees ({facts.crs}), but its corner is beyond 180 or 90.",
                     "Its coordinates are in another CRS. Name that here.", answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
    if max(facts.rows, facts.cols) > _LARGEST_SIDE or facts.rows * facts.cols > MAX_CELLS:
        stop(Finding("too_large", "stop", f"{name} claims {facts.cols} x {facts.rows} cells.",
                     f"More than {_LARGEST_SIDE} in a row or {MAX_CELLS} in all cannot be held; the header may be "
                     "damaged."))  # fmt: skip
    elif facts.rows * facts.cols > max(_CELLS_A_BYTE * path.stat().st_size, _CELLS_TRUSTED):
        stop(Finding("hollow", "stop", f"{name} claims {facts.cols} x {facts.rows} cells in {path.stat().st_size / 1e3:.0f} kB.",
                     "Nothing but empty cells fits into so few bytes; the header may be damaged."))  # fmt: skip
    elif (
        placing
        and placing.numbers
        and not (np.isfinite(placing.numbers).all() and Affine(*placing.numbers).determinant)
    ):
        a, e = placing.numbers[0], placing.numbers[4]
        stop(Finding("no_cells", "stop", f"{name} says that its cells are {a:g} wide and {abs(e):g} high.",
                     "Such cells cover no ground. Its header is damaged; export it again."))  # fmt: skip
    elif facts.crs and placing:
        _set_grid(facts, placing)
    _check_crs(facts, declared)
    _set_unit(facts, declared, says_unit)
    if facts.crs and parse_crs(facts.crs).is_compound:  # what it says of heights is known by now
        facts.crs = crs_name(horizontal(parse_crs(facts.crs)))
        facts.grid = facts.grid and {**facts.grid, "crs": facts.crs}
    _ask_band(facts, declared, heights, titles)
    if "complex" in facts.cell_type:
        stop(Finding("cell_type", "stop", f"{name} holds complex numbers.", "Heights are real."))
    elif "int" in facts.cell_type and not facts.coded:
        stop(Finding("whole_numbers", "note", f"{name} holds whole numbers ({facts.cell_type}).",
                     "Slopes of gentle ground come out as steps. Grey values of a picture are no heights.",
                     _PICTURE if "uint" in facts.cell_type else None))  # fmt: skip
    return facts


def _placing(dataset: Any, declared: Declared) -> Placing | None:
    """Where the cells lie, as somebody declared or the file says; None where nobody does."""
    if declared.tile:
        return Placing(tuple(tile_place(declared.tile, dataset.width))[:6])
    if declared.place:
        return Placing(tuple(declared.place))
    points, _ = dataset.gcps
    if dataset.transform != Affine.identity():
        return Placing(tuple(dataset.transform)[:6])
    if len(points) < 3:
        return None
    return Placing(None, np.array([(one.col, one.row, one.x, one.y) for one in points], np.float64))


def _set_grid(facts: RasterFacts, placing: Placing) -> None:
    """The north-up grid that it is read on, and what is done to it for that."""
    name, add = facts.name, facts.findings.append
    try:
        facts.grid = placing.grid(facts.crs, facts.rows, facts.cols).to_dict()
        missed = placing.fitted()[1]
    except (GridError, InputError) as error:
        add(
            Finding(
                "no_grid",
                "stop",
                f"{name} cannot be placed: {str(error).rstrip('.')}.",
                "Export it again as a north-up grid.",
            )
        )
        return
    made = facts.grid["rows"] * facts.grid["cols"]
    if made > _MOST_ASKEW * facts.rows * facts.cols + 1_000_000:
        add(Finding("askew", "stop", f"{name} lies so askew that a north-up grid over it has {made / (facts.rows * facts.cols):.0f} times "
                    "its cells.", "The numbers that say where it lies are damaged; export it again."))  # fmt: skip
        return
    if placing.control is not None:
        add(Finding("control", "caution", f"{name} is placed by {len(placing.control)} control points, which are missed by up to "
                    f"{missed:.2f} of its cells.", "It is resampled bilinearly onto a north-up grid of cells as large as its own."))  # fmt: skip
    elif placing.is_flipped:
        add(
            Finding(
                "flipped",
                "note",
                f"The rows or columns of {name} run the other way round.",
                "They are turned as it is read.",
            )
        )
    elif not placing.is_straight:
        t = Affine(*(placing.numbers or ()))
        turn = math.degrees(math.atan2(t.d, t.a))
        add(Finding("turned", "caution", f"The rows of {name} are turned by {turn:.1f}\u00b0.",
                    "It is resampled bilinearly onto a north-up grid of cells as large as its own."))  # fmt: skip


def _ask_band(facts: RasterFacts, declared: Declared, heights: list[int], titles: list[str]) -> None:
    """Which of several bands holds heights is a question, and so is how heights stand in the colours of a picture."""
    picture = "uint8" in facts.cell_type and facts.bands == 3
    if facts.coded and not picture:
        facts.findings.append(Finding("no_colours", "stop", f"{facts.name} has no red, green and blue of 8 bits each that heights "
                                      "could be coded in.", "Say which band holds the heights instead."))  # fmt: skip
    if declared.band or facts.coded or facts.bands < 2:
        return
    coded = [Fix(f"Heights are {said}", {"coded": code}) for code, (_, _, said) in CODES.items()]
    bands = [
        Fix(f"Band {number}{f', {title}' if title else ''}"[:60], {"band": number})
        for number, title in zip(heights, titles, strict=True)
    ][:_MOST_ASKED]
    answers = [_PICTURE, *coded, *bands] if picture else [*bands, _PICTURE]
    facts.findings.append(
        Finding("bands", "stop", f"{facts.name} has {facts.bands} bands.", "Which holds the heights? A picture of colours holds none, "
                "unless they are coded in its colours; it can lie under or over surfaces." if picture else "Which holds the heights?", answers=answers)
    )  # fmt: skip


def _in_degrees(facts: RasterFacts) -> bool:
    placing = facts.placing
    if placing is None:
        return False
    if placing.control is not None:
        x, y = placing.control[:, 2], placing.control[:, 3]
    else:
        t = Affine(*(placing.numbers or ()))
        corners = [t @ place for place in ((0, 0), (facts.cols, 0), (0, facts.rows), (facts.cols, facts.rows))]
        x, y = np.array(corners).T
    return bool(np.abs(x).max() <= 361 and np.abs(y).max() <= 91)


def _check_crs(facts: RasterFacts, declared: Declared) -> None:
    """Degrees behind a CRS in metres, and what a compound CRS says of heights."""
    if not facts.crs:
        return
    crs = parse_crs(facts.crs)
    grid = facts.grid
    if not crs.is_geographic and grid and _in_degrees(facts) and grid["cell_width"] < 0.1:
        facts.findings.append(
            Finding(
                "degrees",
                "caution",
                f"{facts.name} says {facts.crs}, in metres, but its cells of {grid['cell_width']:.6g} and its corner at "
                f"{grid['west']:.5g}, {grid['north']:.5g} look like degrees.",
                "Taken as metres it would be a speck near the CRS's origin.",
                Fix("Take as degrees", {"crs": "EPSG:4326"}),
            )
        )
    vertical = next((part for part in crs.sub_crs_list if part.is_vertical), None)
    if vertical is not None:
        facts.vertical_datum = facts.vertical_datum or vertical.name


def _set_unit(facts: RasterFacts, declared: Declared, says: str) -> None:
    """The unit of heights: what is declared, else what the file says of its cells, else what its CRS says of heights. A CRS that
    measures the ground in feet and says nothing of heights is a question."""
    heights, ground = said_by_crs(parse_crs(facts.crs)) if facts.crs else (None, None)
    said = WORDS.get(says.strip().lower()) or heights
    facts.unit = declared.unit or said or "m"
    if declared.unit:
        return
    if said is None and ground not in (None, "m"):
        facts.findings.append(ask_unit(facts.name, str(ground)))
    if facts.unit != "m":
        facts.findings.append(
            Finding(
                "feet_said",
                "note",
                f"{facts.name} says its heights are in feet ({facts.unit}).",
                f"They are turned into metres ({UNITS[facts.unit]:.7g} m each) as they are read.",
            )
        )


@kernel
def _scan(cells, valid, nodata, others, state, empty):
    """One strip: count, sum and extremes of heights; how often each extreme repeats and how far it lies from its
    neighbours. valid: `(rows, cols)`, 0 where the file's mask says empty, or of no rows. empty: set where a cell is empty."""
    rows, cols = cells.shape
    low, high = state[0], state[5]
    for r in range(rows):
        before = np.nan
        for c in range(cols):
            value = np.float64(cells[r, c])
            void = not np.isfinite(value) or value == nodata or (valid.size > 0 and valid[r, c] == 0)
            for k in range(others.size):
                void = void or value == others[k]
            empty[r, c] = void
            if void:
                before = np.nan
                continue
            if value < low:
                low = value
                state[1] = state[2] = state[3] = state[4] = 0.0
            if value > high:
                high = value
                state[6] = state[7] = state[8] = state[9] = 0.0
            if value == low:
                state[1] += 1.0
            if value == high:
                state[6] += 1.0
            if value == 0.0:
                state[15] += 1.0
            state[10] += value
            state[11] += value * value
            state[12] += 1.0
            if before == before:
                step = abs(value - before)
                if value == low or before == low:
                    if step == 0.0:
                        state[2] += 1.0
                    else:
                        state[3] += step
                        state[4] += 1.0
                elif value == high or before == high:
                    if step == 0.0:
                        state[7] += 1.0
                    else:
                        state[8] += step
                        state[9] += 1.0
                else:
                    state[13] += step
                    state[14] += 1.0
            before = value
    state[0], state[5] = low, high


def _pass(dataset: Any, band: int, nodata: float, others: list[float], progress: Progress) -> _Cells:
    state = np.zeros(16)
    state[0], state[5] = np.inf, -np.inf
    rows, cols = dataset.height, dataset.width
    block = max(dataset.block_shapes[0][0], 1)
    strip = max(_STRIP_CELLS // max(cols, 1) // block, 1) * block
    strip = min(strip, max(_STRIP_MOST // max(cols, 1), 1))
    finder = HoleFinder(rows, cols)
    known = np.array(others, np.float64)
    empties = 0

    masked = has_mask(dataset)

    def strip_at(row: int) -> Any:
        if row >= rows:
            return None
        window = ((row, min(row + strip, rows)), (0, cols))
        return dataset.read(band, window=window), dataset.read_masks(band, window=window) if masked else _NO_MASK

    with ThreadPoolExecutor(1) as ahead:  # the next strip is decoded while this one is looked at
        coming = ahead.submit(strip_at, 0)
        for row in range(0, rows, strip):
            cells, valid = coming.result()
            coming = ahead.submit(strip_at, row + strip)
            empty = np.empty(cells.shape, np.bool_)
            _scan(cells, valid, nodata, known, state, empty)
            empties += int(np.count_nonzero(empty))
            finder.add(empty)
            progress(min(row + strip, rows) / rows)
    return _Cells(state, empties, finder.result)


def _void_in(state: Any) -> tuple[float, int] | None:
    """The extreme that means empty: one that repeats in runs and lies far from its neighbours."""
    total, (steps, count) = state[12], (state[13], state[14])
    if total < 2:
        return None
    typical = steps / count if count else 0.0
    for at in (0, 5):
        value, repeats, runs, jump, edges = state[at : at + 5]
        rest = total - repeats
        if repeats == 0 or rest == 0:
            continue
        mean = (state[10] - value * repeats) / rest
        deviation = max((state[11] - value * value * repeats) / rest - mean * mean, 0.0) ** 0.5
        far = abs(value - mean) > 8 * deviation + 1
        leap = edges > 0 and jump / edges > 50 * max(typical, 0.02)
        usual = value in USUAL_VOIDS or abs(value) > 1e30
        if (far or leap) and (usual or (repeats >= 9 and runs >= 0.3 * repeats and far and (leap or not edges))):
            return float(value), int(repeats)
    return None


def inspect(
    path: str | Path, declared: Declared = NOTHING, name: str = "", progress: Progress = ignore_progress
) -> RasterFacts:
    """Read a whole raster, strip by strip in bounded memory: true statistics of all cells, holes, and undeclared voids.

    Reads once, and once more for each value found to mean empty. Raises InputError where it cannot be read.
    """
    facts = header(path, declared, name)
    if any(finding.weight == "stop" for finding in facts.findings):
        return facts
    path = Path(path)
    if facts.driver == "AAIGrid":
        text_grid.check_ascii(path, facts.name)
    if facts.is_plain:
        nodata = float("nan") if facts.nodata is None else float(facts.nodata)
        _look(path, facts, declared, nodata, facts.driver, facts.band, progress)
        return facts
    with Scratch("yama-") as folder:
        _straightened(path, facts, declared, folder, lambda share: progress(0.6 * share))
        plain = folder / _STRAIGHT
        _look(plain, facts, declared, float("nan"), "GTiff", 1, lambda share: progress(0.6 + 0.4 * share))
    return facts


def _look(
    path: Path, facts: RasterFacts, declared: Declared, nodata: float, driver: str, band: int, progress: Progress
) -> None:
    """Read every cell of a plain raster, and conclude from them."""
    with _damage_said(facts.name), rasterio.open(path, driver=driver) as dataset:
        scale, offset = dataset.scales[band - 1], dataset.offsets[band - 1]
        others = [] if declared.nodata is None else [declared.nodata]
        seen, found = _without_voids(dataset, band, nodata, others, progress)
    facts.voids += found
    _conclude(facts, seen, scale, offset)


def _without_voids(
    dataset: Any, band: int, nodata: float, others: list[float], progress: Progress
) -> tuple[_Cells, list[tuple[float, int]]]:
    """What the cells say, with values that mean empty though nobody says so; and those."""
    others, voids = list(others), []
    for _ in range(_PASSES):
        seen = _pass(dataset, band, nodata, others, progress)
        found = _void_in(seen.state)
        if found is None:
            break
        voids.append(found)
        others.append(found[0])
    return seen, voids


@contextmanager
def _damage_said(name: str) -> Iterator[None]:
    try:
        yield
    except rasterio.errors.RasterioError as error:
        raise InputError(
            f"Some rows of {name} cannot be read; the file is damaged or cut short. Get it again."
        ) from error


def _straightened(path: Path, facts: RasterFacts, declared: Declared, folder: Path, progress: Progress) -> None:
    """Write what is no north-up grid of heights as one, in metres or whatever the file's unit is.

    Before cells are blended, values that mean empty though nobody says so are found and taken as empty: they would pull down all
    cells around. That is a caution, and adds to `facts.voids`.
    """
    placing = facts.placing
    assert placing is not None
    grid = Grid.from_dict(facts.grid or {})
    empty = [] if declared.nodata is None else [declared.nodata]
    blends = not (placing.is_straight or placing.is_flipped)
    with _damage_said(facts.name), rasterio.open(path, driver=facts.driver) as dataset:
        if blends and not facts.coded:
            nodata = float("nan") if facts.nodata is None else float(facts.nodata)
            _, found = _without_voids(dataset, facts.band, nodata, empty, lambda share: progress(0.4 * share))
            facts.findings += [
                Finding("void_taken", "caution", f"{value:g} is not declared as empty in {facts.name}, but stands in {count} cells far "
                        "from all others.", "They are taken as empty, since resampling would blend them with the cells around.")
                for value, count in found
            ]  # fmt: skip
            empty += [value for value, _ in found]
        cells = Cells(dataset, facts.band, facts.coded, empty)
        straighten(cells, placing, grid, folder / _STRAIGHT, lambda share: progress(0.4 + 0.6 * share))


def _conclude(facts: RasterFacts, seen: _Cells, scale: float, offset: float) -> None:
    state = seen.state
    grid = facts.grid or {}
    cells, count = (facts.rows * facts.cols if facts.is_plain else grid["rows"] * grid["cols"]), state[12]
    factor = scale * UNITS[facts.unit]
    if count:
        mean = state[10] / count
        deviation = max(state[11] / count - mean * mean, 0.0) ** 0.5
        low, high, middle = (value * factor + offset * UNITS[facts.unit] for value in (state[0], state[5], mean))
        facts.statistics = Statistics(cells, seen.empty, low, high, middle, deviation * abs(factor))
    else:
        facts.statistics = Statistics(cells, seen.empty)
    facts.holes = seen.holes
    add = facts.findings.append
    if not count:
        add(Finding("all_empty", "stop", f"Every cell of {facts.name} is empty; there is nothing to hold."))
        return
    for value, number in facts.voids:
        add(
            Finding(
                "void_value",
                "caution",
                f"{value:g} is not declared as empty in {facts.name}, but stands in {number} cells far from all others.",
                "Counted as height it ruins every mean, slope and mosaic.",
                Fix("Make empty", {"nodata": value}),
            )
        )
    if facts.holes.count:
        share = 100 * facts.holes.cells / cells
        add(
            Finding(
                "holes",
                "note",
                f"{facts.name} has {facts.holes.count} {'hole' if facts.holes.count == 1 else 'holes'} of {facts.holes.cells} cells "
                f"in all ({share:.1f} %).",
                f"The largest has {facts.holes.largest[0].cells} cells.",
                places=[_middle(facts, hole.top, hole.left, hole.bottom, hole.right) for hole in facts.holes.largest],
            )
        )
    zeros = state[15]
    if zeros > 0.01 * count and 0.0 not in (value for value, _ in facts.voids) and (state[0] < 0 or state[5] > 0):
        add(
            Finding(
                "zeros",
                "note",
                f"{100 * zeros / count:.0f} % of the cells of {facts.name} are exactly 0.",
                "Sea, or background that should be empty.",
                Fix("Make empty", {"nodata": 0.0}),
            )
        )
    highest = facts.statistics.highest or 0.0
    if facts.unit == "m" and highest > _HIGHEST_GROUND:
        add(
            Finding(
                "feet",
                "caution",
                f"{facts.name} reaches {highest:.0f}, which no ground does in metres.",
                "Heights in feet are 3.28 times too high when taken as metres.",
                Fix("Take as feet", {"unit": "ft"}),
            )
        )


def _middle(facts: RasterFacts, top: int, left: int, bottom: int, right: int) -> tuple[float, float]:
    grid = Grid.from_dict(facts.grid or {})
    return float(grid.x_of((left + right) / 2)), float(grid.y_of((top + bottom) / 2))


def feet_against(surface: Surface, reference: Surface, name: str) -> Finding | None:
    """Whether heights look like feet beside another surface of the same ground: about 3.28 times as high, and at least
    four times nearer to it when taken as feet. Trees and noise in the other may blur the ratio, not that."""
    low, high = surface.grid.bounds[:2], surface.grid.bounds[2:]
    side = 24
    x, y = np.meshgrid(*(np.linspace(low[i], high[i], side + 2)[1:-1] for i in (0, 1)))
    mine = sample(surface, x.ravel(), y.ravel())
    turn = Transformer.from_crs(parse_crs(surface.grid.crs), parse_crs(reference.grid.crs), always_xy=True)
    there = sample(reference, *turn.transform(x.ravel(), y.ravel()))
    both = np.isfinite(mine) & np.isfinite(there) & (there > 10)
    if both.sum() < 30:
        return None
    middle = float(np.median(mine[both] / there[both]))
    as_feet = float(np.median(np.abs(mine[both] * UNITS["ft"] - there[both])))
    as_metres = float(np.median(np.abs(mine[both] - there[both])))
    if not 2.6 < middle < 4.0 or as_feet > 0.25 * as_metres:
        return None
    return Finding(
        "feet",
        "caution",
        f"Heights in {name} are {middle:.2f} times those of other surfaces here: they look like feet.",
        "Taken as metres they would be wrong by hundreds of metres.",
        Fix("Take as feet", {"unit": "ft"}),
    )


def read(path: str | Path, declared: Declared = NOTHING, name: str = "") -> StoredSurface:
    """The surface in a raster file, heights in metres. Raises InputError with the first reason against its use."""
    facts = header(path, declared, name)
    refuse(facts.findings)
    if not facts.is_plain:
        scratch = Scratch("yama-")
        _straightened(Path(path), facts, declared, scratch.path, ignore_progress)
        made = StoredSurface(
            scratch.path / _STRAIGHT, vertical_datum=facts.vertical_datum, name=facts.name, crs=facts.crs,
            empty=declared.nodata, factor=UNITS[facts.unit],
        )  # fmt: skip
        weakref.finalize(made, scratch.remove)
        return made
    placing = facts.placing
    return StoredSurface(
        path,
        band=facts.band,
        vertical_datum=facts.vertical_datum,
        name=facts.name,
        driver=facts.driver,
        crs=facts.crs,
        empty=declared.nodata,
        factor=UNITS[facts.unit],
        place=placing.transform if placing and (declared.place or declared.tile) else None,
    )
