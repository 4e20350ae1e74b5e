"""Maps of a report: a surface with coordinates along the map's sides and a key, and where all of it lies in the frame."""

from __future__ import annotations

import math
from base64 import b64encode
from collections.abc import Sequence
from dataclasses import dataclass

from yama.terrain.deliver.map_lines import MapLines, map_lines, path_of
from yama.terrain.deliver.scored import Mark
from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, Grid
from yama.terrain.quantities import Quantity
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.graticule import Kind, degrees_in_words, ends_of, graticule, lonlat
from yama.terrain.relief.picture import filled_area, span_of, view_picture
from yama.terrain.surface import Surface
from yama.terrain.units import in_unit

MAP_WIDE = 1_200
"""Pixels across a map that is as wide as the page."""
MAP_TALL = 1_060
"""Pixels down one that leaves room for its key; a taller one is narrower than the page."""
AREA_TALL = 760
"""Pixels down the map of the area."""
_TAIL = 0.001  # of all cells at either end of the key
_FIGURES = 5  # along the key
_SAME = 24.0  # pixels within which two outlines are one
RIM, EDGE = 34, 10
"""Pixels to the left of a map and below it, for coordinates; and beyond its other sides, for marks."""
_LETTER = 10.5  # pixels that a letter of these is wide
_LINE, _INSET = 24.0, 8.0  # pixels that a name is high, and that it stands inside its outline


@dataclass(frozen=True)
class Frame:
    """What stands around a map. sides: by `south`, `north`, `west` and `east` figures of lines that end there, in
    pixels along the side. lines: those
    lines, as paths; empty where they are only marked at the sides."""

    sides: dict[str, list[Mark]]
    lines: list[str]


@dataclass(frozen=True)
class _Drawn:
    """A map as it stands on a page. size: of what is drawn, in pixels. bar: length in metres and share of the map's width.
    frame: coordinates along its sides."""

    size: tuple[int, int]
    bar: tuple[float, float]
    frame: Frame

    @property
    def width(self) -> float:
        """How wide it is with its frame, as a share of the page."""
        return (self.size[0] + RIM + EDGE) / (MAP_WIDE + RIM + EDGE)

    @property
    def bar_width(self) -> float:
        """How long the bar is, as a share of the page."""
        return self.bar[1] * self.size[0] / (MAP_WIDE + RIM + EDGE)


@dataclass(frozen=True)
class Map(_Drawn):
    """A surface seen from above, with what one needs to read it. low, high: values at the ends of the key, None where all is
    empty; gradient: its colours from left to right, for a style sheet. lines: contours over it, None where it is of no
    heights or level."""

    png: bytes
    low: float | None
    high: float | None
    gradient: str
    lines: MapLines | None

    @property
    def image(self) -> str:
        """As an address for a page."""
        return "data:image/png;base64," + b64encode(self.png).decode()

    @property
    def figures(self) -> list[float]:
        """Values that stand along the key, from its lower end to its upper one."""
        if self.low is None or self.high is None:
            return []
        return [self.low + (self.high - self.low) * i / (_FIGURES - 1) for i in range(_FIGURES)]


@dataclass(frozen=True)
class Outline:
    """Where something lies in the frame: its name, a rectangle in pixels of the map of the area, and where the name begins,
    on its baseline."""

    name: str
    x: float
    y: float
    wide: float
    high: float
    at: tuple[float, float]


@dataclass(frozen=True)
class AreaMap(_Drawn):
    """All of the frame with what is handed over. image: the first surface of heights, as an address for a page, or empty.
    middle: where the middle of the frame lies, in degrees; empty where its CRS does not reach so far."""

    image: str
    outlines: list[Outline]
    middle: str


def draw_map(surface: Surface, frame: Grid, quantity: Quantity, dress: Dress | None = None) -> Map:
    """The part of the frame where the surface has values. dress: as somebody dressed it; the usual look where None."""
    grid = _view(_filled(surface, frame), frame.crs, MAP_WIDE, MAP_TALL)
    dress = dress or Dress.usual(quantity, span_of(surface, grid, _TAIL))
    png = view_picture(surface, grid, dress)
    lines = map_lines(in_unit(surface, dress.unit), grid) if quantity == "height" else None
    drawn = (grid.cols, grid.rows), _bar(grid), _frame(grid, "coordinates", False)
    return Map(*drawn, png, dress.low, dress.high, dress.gradient, lines)


def draw_area(frame: Grid, surfaces: Sequence[tuple[str, Surface]], shown: tuple[Surface, Dress] | None) -> AreaMap:
    """Where surfaces lie in a frame.

    Parameters
    ----------
    frame : Grid
    surfaces : sequence of (str, Surface)
        With the names that stand at their outlines.
    shown : (Surface, Dress), optional
        What is drawn below these.
    """
    grid = _view(frame.bounds, frame.crs, MAP_WIDE, AREA_TALL)
    named: dict[tuple[float, ...], list[str]] = {}
    for name, surface in surfaces:
        area = filled_area(surface, frame)
        if area is None:
            continue
        x, y = (area.west - grid.west) / grid.cell_width, (grid.north - area.north) / grid.cell_height
        wide, high = (area.east - area.west) / grid.cell_width, (area.north - area.south) / grid.cell_height
        rectangle = tuple(round(one, 1) for one in (x, y, wide, high))
        # what covers the same ground has one outline with all names
        same = next(
            (one for one in named if max(abs(a - b) for a, b in zip(one, rectangle, strict=True)) < _SAME), None
        )
        named.setdefault(same or rectangle, []).append(name)
    outlines = _labelled({", ".join(names): rectangle for rectangle, names in named.items()})
    image = ""
    if shown is not None:
        image = "data:image/png;base64," + b64encode(view_picture(shown[0], grid, shown[1])).decode()
    middle = frame.bounds.middle
    longitude, latitude = lonlat(frame.crs, *middle)
    words = ""
    if math.isfinite(longitude) and math.isfinite(latitude):
        words = f"{degrees_in_words(latitude, 'y', 1 / 3600)}, {degrees_in_words(longitude, 'x', 1 / 3600)}"
    return AreaMap((grid.cols, grid.rows), _bar(grid), _frame(grid, "degrees", True), image, outlines, words)


def _labelled(rectangles: dict[str, tuple[float, ...]]) -> list[Outline]:
    """Rectangles with their names in a corner, or below each other along a side, where none lies on another."""
    taken: list[tuple[float, float, float]] = []
    found = []
    for name, (x, y, wide, high) in rectangles.items():
        long = len(name) * _LETTER + _LETTER
        left, right = x + _INSET, x + wide - _INSET - long
        top, bottom = y + _INSET + _LINE, y + high - _INSET
        corners = [(left, top), (left, bottom), (right, top), (right, bottom)]
        corners += [(left, top + n * _LINE) for n in range(1, 1 + len(rectangles))]
        at = next(
            (one for one in corners if all(
                abs(one[1] - b) >= _LINE or one[0] + long <= a or a + c <= one[0] for a, b, c in taken
            )), corners[0],
        )  # fmt: skip
        taken.append((*at, long))
        found.append(Outline(name, x, y, wide, high, (round(at[0], 1), round(at[1], 1))))
    return found


def _view(area: Bounds, crs: str, wide: int, tall: int) -> Grid:
    """The cells of a map, a pixel each."""
    cell = max((area.east - area.west) / wide, (area.north - area.south) / tall)
    cols, rows = (max(round(side / cell), 8) for side in (area.east - area.west, area.north - area.south))
    return Grid(crs, area.west, area.north, cell, cell, rows, cols)


def _bar(grid: Grid) -> tuple[float, float]:
    across = grid.metres_per_cell()[0] * grid.cols
    length = _round_down(across / 4)
    return length, length / across


def _frame(grid: Grid, kind: Kind, drawn: bool) -> Frame:
    """Coordinates along the sides of a map. drawn: whether their lines cross it."""
    try:
        found = graticule(grid.crs, grid.bounds, kind, 6)
    except InputError:  # the CRS does not hold all over the map, which then has no degrees, and is a map all the same
        found = []
    sides: dict[str, list[Mark]] = {}
    for side, ends in ends_of(found, grid.bounds).items():
        long = grid.cols if side in ("south", "north") else grid.rows
        sides[side] = [Mark(round(at * long, 1), text) for at, text in ends]
        # figures stand along their side and must not run into each other, nor out of the map's corner
        kept: list[Mark] = []
        for tick in sides[side]:
            half = len(tick.text) * _LETTER / 2
            before = kept[-1].at + len(kept[-1].text) * _LETTER / 2 + _LETTER if kept else -EDGE
            if tick.at - half >= before and tick.at + half <= long + EDGE:
                kept.append(tick)
        sides[side] = kept
    west, north, cell = grid.west, grid.north, (grid.cell_width, grid.cell_height)
    lines = [path_of((line.places - (west, north)) / (cell[0], -cell[1])) for line in found] if drawn else []
    return Frame(sides, lines)


def _filled(surface: Surface, frame: Grid) -> Bounds:
    """Where the surface has values in the frame, a little wider but not beyond it; all of the frame where it has none."""
    area = filled_area(surface, frame)
    if area is None:
        return frame.bounds
    margin = max(area.east - area.west, area.north - area.south) / 30
    wider = Bounds(area.west - margin, area.south - margin, area.east + margin, area.north + margin)
    return wider.intersection(frame.bounds) or frame.bounds


def _round_down(value: float) -> float:
    """1, 2 or 5 times a power of ten, not more than a value."""
    power = 10.0 ** math.floor(math.log10(value))
    return next(factor * power for factor in (5.0, 2.0, 1.0) if factor * power <= value * 1.0001)
