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

from yama.terrain.deliver.maps import EDGE, RIM, AreaMap, Map
from yama.terrain.deliver.scored import HIGH, SWING_HIGH, SWING_WIDE, WIDE, ScoredCard
from yama.terrain.findings import Finding
from yama.terrain.grid import Bounds
from yama.terrain.table import Cell, Column, Table

_BARS = 41
_ROWS = 200  # of a table of what a step did


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
    it. statement: of its vertical accuracy, in sentences. patches: colours with what they
    stand for, where they are not along a ramp."""

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
    cells: str = "Height"
    told: list[Told] = field(default_factory=list)
    brief: list[Met] = field(default_factory=list)
    statement: list[str] = field(default_factory=list)
    patches: list[tuple[str, str]] = field(default_factory=list)


@dataclass(frozen=True)
class Made:
    """How something that is no surface was made. lineage, told: as of a sheet."""

    name: str
    lineage: list[str]
    told: list[Told]


@dataclass(frozen=True)
class Report:
    """All that the report says. frame: label and value. area: where everything lies. author: who had it made. crs: of the
    frame. sources: name, kind and what is known of each file that something here was made from. others: name, file and what is in it, of all that is no surface. card: how all surfaces
    of the project do at its checkpoints. unit: of its figures. water: how what tells of water was made; networks: those
    that are kept beside each other."""

    title: str
    project: str
    made: str
    note: str
    frame: list[tuple[str, str]]
    area: AreaMap
    author: str
    crs: str
    sheets: list[Sheet]
    others: list[tuple[str, str, str]]
    sources: list[tuple[str, str, str]]
    findings: list[Finding] = field(default_factory=list)
    card: ScoredCard | None = None
    unit: str = "m"
    water: list[Made] = field(default_factory=list)
    networks: Told | None = None

    @property
    def contents(self) -> list[tuple[str, str]]:
        """The parts that are there, each by its anchor on the page."""
        parts = (
            ("know", "To know before use", self.findings),
            ("surfaces", "Surfaces", self.sheets),
            ("scorecard", "Scorecard", self.card),
            ("others", "Lines, areas, points and clouds", self.others),
            ("water", "Water", self.water or self.networks),
            ("sources", "Sources", self.sources),
        )
        found = [(name, title) for name, title, what in parts if what]
        return [*found, *((f"sheet-{i}", sheet.name) for i, sheet in enumerate(self.sheets, 1))]


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
    sizes = {"scored": (WIDE, HIGH), "swing": (SWING_WIDE, SWING_HIGH), "rim": RIM, "edge": EDGE}
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
