"""The report of a package: the same page for the screen and for paper."""

from __future__ import annotations

import math
from base64 import b64encode
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from jinja2 import Environment, FileSystemLoader, StrictUndefined

from yama.terrain.deliver.map_lines import MapLines, map_lines
from yama.terrain.deliver.scored import HIGH, SWING_HIGH, SWING_WIDE, WIDE, ScoredCard
from yama.terrain.findings import Finding
from yama.terrain.grid import Bounds, Grid
from yama.terrain.quantities import Quantity
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import filled_area, span_of, view_picture
from yama.terrain.surface import Surface
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import in_unit

MAP_WIDE = 1_200
"""Pixels across a map that is as wide as the page."""
MAP_TALL = 1_125
"""Pixels down one that leaves room for its key; a taller one is narrower than the page."""
_BARS = 41
_ROWS = 200  # of a table of what a step did
_TAIL = 0.001  # of all cells at either end of the key


@dataclass(frozen=True)
class Map:
    """A surface seen from above, with what one needs to read it. bar: length in metres and share of the map's width.
    low, high: values at the ends of the key, None where all is empty; gradient: its colours from left to right, for a style
    sheet. lines: contours over it, None where it is of no heights or level."""

    png: bytes
    size: tuple[int, int]
    low: float | None
    high: float | None
    gradient: str
    bar: tuple[float, float]
    lines: MapLines | None

    @property
    def width(self) -> float:
        """How wide it is, as a share of the page."""
        return self.size[0] / MAP_WIDE

    @property
    def image(self) -> str:
        """As an address for a page."""
        return "data:image/png;base64," + b64encode(self.png).decode()


@dataclass(frozen=True)
class Told:
    """A table that a step made of what it did; a sentence alone where it cannot be told."""

    title: str
    table: Table | None = None

    @property
    def columns(self) -> list[tuple[int, Column]]:
        """Those in which something stands, with their places."""
        rows = self.table.rows if self.table else []
        return [
            (i, one)
            for i, one in enumerate(self.table.columns if self.table else ())
            if any(row[i] is not None for row in rows)
        ]

    @property
    def rows(self) -> list[list[str]]:
        """As text, the first of very many."""
        return [
            [_cell(row[i], column) for i, column in self.columns]
            for row in (self.table.rows if self.table else [])[:_ROWS]
        ]

    @property
    def left_out(self) -> int:
        """How many rows are not among them."""
        return max(len(self.table.rows) - _ROWS, 0) if self.table else 0

    @property
    def together(self) -> list[str] | None:
        """What is true of all rows, below its column; None where nothing is."""
        facts = self.table.facts if self.table else {}
        found = [_cell(facts[one.name], one) if one.name in facts else "" for _, one in self.columns]
        if not any(found):
            return None
        titled = next((i for i, (_, one) in enumerate(self.columns) if one.type == "text" and not found[i]), None)
        return [word if i != titled else "together" for i, word in enumerate(found)]


def _cell(value: Cell, column: Column) -> str:
    if value is None:
        return ""
    if isinstance(value, str) or column.type == "text":
        return str(value)
    if column.type == "yes_no":
        return "yes" if value else "no"
    return number(float(value), 0 if column.type == "whole" else 2 if column.decimals is None else column.decimals)


@dataclass(frozen=True)
class Met:
    """A demand of the brief, whether it is met (None where that cannot be told), what was found, and more of it."""

    title: str
    met: bool | None
    shown: str
    told: str


@dataclass(frozen=True)
class Sheet:
    """What the report says of one surface. facts: label and value. accuracy: as `Accuracy.to_dict`, or None with the reason in
    `unjudged`. lineage: one line a step, from the files on. told: what steps did, as tables. brief: what was asked of
    it. statement: of its vertical accuracy, in sentences."""

    name: str
    file: str
    facts: list[tuple[str, str]]
    map: Map
    accuracy: dict[str, Any] | None
    unjudged: str
    lineage: list[str]
    findings: list[Finding]
    unit: str = "m"
    key_unit: str = "m"
    told: list[Told] = field(default_factory=list)
    brief: list[Met] = field(default_factory=list)
    statement: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Made:
    """How something that is no surface was made. lineage, told: as of a sheet."""

    name: str
    lineage: list[str]
    told: list[Told]


@dataclass(frozen=True)
class Report:
    """All that the report says. frame: label and value. sources: name, kind and what is known of each file that something here
    was made from. others: name, file and what is in it, of all that is no surface. card: how all surfaces
    of the project do at its checkpoints. unit: of its figures. water: how what tells of water was made; networks: those
    that are kept beside each other."""

    title: str
    project: str
    made: str
    note: str
    frame: list[tuple[str, str]]
    sheets: list[Sheet]
    others: list[tuple[str, str, str]]
    sources: list[tuple[str, str, str]]
    findings: list[Finding] = field(default_factory=list)
    card: ScoredCard | None = None
    unit: str = "m"
    water: list[Made] = field(default_factory=list)
    networks: Told | None = None


def draw_map(surface: Surface, frame: Grid, quantity: Quantity, dress: Dress | None = None) -> Map:
    """The part of the frame where the surface has values. dress: as somebody dressed it; the usual look where None."""
    area = _filled(surface, frame)
    cell = max((area.east - area.west) / MAP_WIDE, (area.north - area.south) / MAP_TALL)
    cols, rows = (max(round(side / cell), 8) for side in (area.east - area.west, area.north - area.south))
    grid = Grid(frame.crs, area.west, area.north, cell, cell, rows, cols)
    dress = dress or Dress.usual(quantity, span_of(surface, grid, _TAIL))
    across = grid.metres_per_cell()[0] * cols
    length = _round_down(across / 4)
    png = view_picture(surface, grid, dress)
    lines = map_lines(in_unit(surface, dress.unit), grid) if quantity == "height" else None
    return Map(png, (cols, rows), dress.low, dress.high, dress.gradient, (length, length / across), lines)


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


def number(value: float | None, decimals: int = 2) -> str:
    """Grouped by thin spaces, with a true minus, which a zero has not."""
    if value is None or not math.isfinite(value):
        return "–"
    value = round(value, decimals) + 0.0
    return f"{value:,.{decimals}f}".replace(",", "\u202f").replace("-", "\u2212")


def _metres(value: float) -> str:
    return f"{value / 1000:g} km" if value >= 1000 else f"{value:g} m"


def bars_of(errors: Sequence[Sequence[float]], nmad: float) -> tuple[float, list[tuple[float, float, float]]]:
    """Bars of a histogram of errors (the last of each three) about zero: how far they reach, four NMAD or what there is, and
    place, width and height of each as shares."""
    values = np.array([one[-1] for one in errors], np.float64)
    values = values[np.isfinite(values)]
    if not values.size:
        return 0.0, []
    reach = max(4 * nmad, float(np.quantile(np.abs(values), 0.9)), 1e-3)
    counts, _ = np.histogram(np.clip(values, -reach, reach), _BARS, (-reach, reach))
    return reach, [(i / _BARS, 1 / _BARS, float(count) / counts.max()) for i, count in enumerate(counts)]


def html_of(report: Report, fonts: Mapping[str, Path] | None = None) -> str:
    """One page with everything in it. fonts: WOFF2 files for `sans` and `mono`; the reader's own where there is none. Names and
    notes are text, whatever they hold."""
    page = Environment(
        loader=FileSystemLoader(Path(__file__).parent), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True,
    )  # fmt: skip
    page.filters.update(number=number, metres=_metres, plain=lambda value: number(value, 0 if value % 1 == 0 else 2))
    embedded = {name: b64encode(path.read_bytes()).decode() for name, path in (fonts or {}).items() if path.exists()}
    sizes = {"scored": (WIDE, HIGH), "swing": (SWING_WIDE, SWING_HIGH)}
    return page.get_template("report.html").render(report=report, fonts=embedded, bars_of=bars_of, **sizes)


def pdf_of(html: str) -> bytes:
    """The page on A4. Nothing is fetched from anywhere."""
    from weasyprint import HTML  # heavy, and seldom needed
    from weasyprint.urls import URLFetcher

    made: bytes = HTML(string=html, url_fetcher=URLFetcher(allowed_protocols=["data"])).write_pdf()
    return made


def area_of(bounds: Bounds, digits: int = 0) -> str:
    """A rectangle as text."""
    sides = (f"{name} {number(value, digits)}" for name, value in zip("WSEN", bounds, strict=True))
    return ", ".join(sides)
