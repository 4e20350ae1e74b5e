"""Tables of points as text: CSV, TXT with any usual separator, decimal point or comma, header or none."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.grid import parse_crs
from yama.terrain.points import Points

_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
_NAMES = {
    "x": ("x", "e", "east", "easting", "lon", "long", "longitude", "utm_e", "x_m"),
    "y": ("y", "n", "north", "northing", "lat", "latitude", "utm_n", "y_m"),
    "z": ("z", "h", "height", "elev", "elevation", "alt", "altitude", "z_m", "height_m", "level"),
    "code": ("code", "class", "type", "kind", "feature", "cover", "land_cover", "desc"),
}
_SAMPLE_ROWS = 200
_LARGEST = 1e9  # no coordinate or height in any unit in use is larger


@dataclass(frozen=True)
class Layout:
    """How a table is to be read. Columns are numbered from 0; None where there is none."""

    separator: str
    decimal: str
    header: bool
    columns: tuple[str, ...]
    x: int | None
    y: int | None
    z: int | None
    code: int | None
    encoding: str = "utf-8-sig"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "columns": list(self.columns)}


@dataclass
class TableFacts:
    """A table looked at: its guessed layout, first rows, number of rows, and findings."""

    name: str
    layout: Layout
    rows: int
    first_rows: list[list[str]]
    crs: str
    findings: list[Finding] = field(default_factory=list)

    @property
    def usable(self) -> bool:
        """Whether it can be brought in as it is."""
        return not any(finding.weight == "stop" for finding in self.findings)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            **vars(self),
            "layout": self.layout.to_dict(),
            "findings": [finding.to_dict() for finding in self.findings],
            "kind": "points",
        }


def _encoding(path: Path, name: str) -> str:
    with path.open("rb") as file:
        start = file.read(1 << 16)
    if b"\0" in start:
        raise InputError(f"{name} is not a text table: it holds binary data. Export it as CSV.")
    try:
        start.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.start < len(start) - 4:
            return "cp1252"
    return "utf-8-sig"


def _rows(path: Path, separator: str, encoding: str) -> Iterator[list[str]]:
    with path.open(encoding=encoding, errors="replace", newline="") as file:
        if separator == " ":
            for line in file:
                if line.strip():
                    yield line.split()
        else:
            try:
                for row in csv.reader(file, delimiter=separator):
                    if any(cell.strip() for cell in row):
                        yield [cell.strip() for cell in row]
            except csv.Error as error:
                raise InputError(f"{path.name} cannot be read as a table: {error}.") from error


def _separator(lines: list[str]) -> str:
    best, score = ",", 0.0
    for candidate in ("\t", ";", "|", ",", " "):
        counts = [len(line.split() if candidate == " " else line.split(candidate)) for line in lines]
        most = max(set(counts), key=counts.count)
        # a decimal comma makes commas as regular as separators, so the earlier candidates win ties
        value = counts.count(most) / len(counts) * (most > 1)
        if value > score + 0.1:
            best, score = candidate, value
    return best


def _is_number(text: str) -> bool:
    return bool(_NUMBER.match(text)) or text.lower() in ("nan", "inf", "-inf")


def guess_layout(path: str | Path, name: str = "") -> tuple[Layout, list[list[str]]]:
    """Look at the first rows: separator, decimal mark, header, and which column is what.

    Raises InputError where the file is empty or not text.
    """
    path = Path(path)
    name = name or path.name
    encoding = _encoding(path, name)
    with path.open(encoding=encoding, errors="replace") as file:
        lines = [line.rstrip("\r\n") for _, line in zip(range(_SAMPLE_ROWS), file, strict=False) if line.strip()]
    if not lines:
        raise InputError(f"{name} is empty.")
    separator = _separator(lines)
    rows = [row for _, row in zip(range(_SAMPLE_ROWS), _rows(path, separator, encoding), strict=False)]
    header = len(rows[0]) > 1 and not any(_is_number(cell) for cell in rows[0])
    body = rows[1:] if header else rows
    width = max(len(row) for row in rows)
    names = tuple(rows[0][i] if header and i < len(rows[0]) else f"column {i + 1}" for i in range(width))

    def share(column: int) -> float:
        return sum(column < len(row) and _is_number(row[column]) for row in body) / max(len(body), 1)

    numeric = [column for column in range(width) if body and share(column) > 0.5]
    commas = sum("," in cell for row in body for cell in row if _is_number(cell))
    found: dict[str, int | None] = {}
    for role, known in _NAMES.items():
        found[role] = next(
            (i for i, name in enumerate(names) if name.lower() in known and (role == "code" or i in numeric)), None
        )
    if not header and len(numeric) >= 3:
        plain = [column for column in numeric if not _is_counter(body, column)] if len(numeric) > 3 else numeric
        found["x"], found["y"], found["z"] = (plain + [None] * 3)[:3]  # type: ignore[operator]
        texts = [column for column in range(width) if column not in numeric]
        found["code"] = texts[-1] if texts else None
    decimal = "," if separator != "," and commas > 0 else "."
    layout = Layout(separator, decimal, header, names, found["x"], found["y"], found["z"], found["code"], encoding)
    return layout, body[:12]


def _is_counter(rows: list[list[str]], column: int) -> bool:
    """Whether a column counts 1, 2, 3..., as point numbers do."""
    try:
        values = [int(row[column]) for row in rows[:20]]
    except (ValueError, IndexError):
        return False
    return len(values) > 1 and all(b - a == 1 for a, b in zip(values, values[1:], strict=False))


def _guess_crs(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> str:
    finite = np.isfinite(x) & np.isfinite(y)
    if finite.any() and np.abs(x[finite]).max() <= 180 and np.abs(y[finite]).max() <= 90:
        return "EPSG:4326"
    return ""


def inspect(path: str | Path, crs: str = "", name: str = "") -> TableFacts:
    """Look at a whole table. `crs` where it is known, such as the frame's for coordinates in metres; `name` is what
    people call the file."""
    path = Path(path)
    name = name or path.name
    layout, first_rows = guess_layout(path, name)
    facts = TableFacts(name, layout, 0, first_rows, crs)
    missing = [role for role in ("x", "y") if getattr(layout, role) is None]
    if missing:
        facts.rows = sum(1 for _ in _rows(path, layout.separator, layout.encoding)) - layout.header
        facts.findings.append(
            Finding(
                "no_position",
                "stop",
                f"{name} has no column for {' and '.join(missing)}.",
                f"Its columns are: {', '.join(layout.columns)}. Name them x, y and z, or choose them.",
            )
        )
        return facts
    if layout.z is None:
        facts.findings.append(
            Finding(
                "no_height",
                "stop",
                f"{name} has no height column.",
                f"Its columns are: {', '.join(layout.columns)}. Without heights nothing can be interpolated.",
            )
        )
    points, bad = _parse(path, layout, crs or "EPSG:4326")
    facts.rows = len(points) + len(bad)
    guessed = _guess_crs(points.x, points.y)
    facts.crs = guessed or crs
    if guessed and crs and not parse_crs(crs).is_geographic:
        facts.findings.append(
            Finding(
                "degrees",
                "caution",
                f"The coordinates in {name} look like degrees (all within 180 and 90).",
                f"They are taken as longitude and latitude ({guessed}) and put into {crs} for every use.",
            )
        )
    if bad:
        row, text = bad[0]
        facts.findings.append(
            Finding(
                "bad_rows",
                "caution",
                f"{len(bad)} of {facts.rows} rows of {name} hold no usable numbers.",
                f"The first is row {row}: {text[:60]!r}. They are left out; the file itself is kept as it is.",
            )
        )
    if len(points) < 3:
        facts.findings.append(
            Finding(
                "too_few",
                "stop",
                f"{name} holds {len(points)} usable points.",
                "A surface needs at least three, not on one line.",
            )
        )
    if not facts.crs:
        facts.findings.append(
            Finding("no_crs", "stop", f"{name} does not say its CRS.", "Name it, for example EPSG:32741.")
        )
    return facts


def _parse(path: Path, layout: Layout, crs: str) -> tuple[Points, list[tuple[int, str]]]:
    roles = [("x", layout.x), ("y", layout.y), ("z", layout.z)]
    wanted = [(name, column) for name, column in roles if column is not None]
    values: dict[str, list[float]] = {name: [] for name, _ in wanted}
    codes: list[str] = []
    bad: list[tuple[int, str]] = []
    for number, row in enumerate(_rows(path, layout.separator, layout.encoding), start=1):
        if number == 1 and layout.header:
            continue
        try:
            numbers = [float(row[column].replace(",", ".") if layout.decimal == "," else row[column])
                       for _, column in wanted]  # fmt: skip
        except (ValueError, IndexError):
            bad.append((number, layout.separator.join(row)))
            continue
        if not all(abs(value) <= _LARGEST for value in numbers):  # NaN fails this too
            bad.append((number, layout.separator.join(row)))
            continue
        for (name, _), value in zip(wanted, numbers, strict=True):
            values[name].append(value)
        if layout.code is not None:
            codes.append(row[layout.code] if layout.code < len(row) else "")
    arrays = {name: np.array(column, np.float64) for name, column in values.items()}
    height = layout.columns[layout.z] if layout.z is not None else ""
    return (
        Points(
            crs=crs,
            x=arrays["x"],
            y=arrays["y"],
            fields={height: arrays["z"]} if height else {},
            codes=np.array(codes, dtype=np.str_) if codes else np.empty(0, "U1"),
            height_field=height or "z",
        ),
        bad,
    )


def read(path: str | Path, crs: str = "", layout: Layout | None = None) -> Points:
    """Points of a table; rows without usable numbers are left out (`inspect` counts them).

    crs: of the coordinates where they are not degrees. Raises InputError with the first reason against use.
    """
    path = Path(path)
    if layout is None:
        facts = inspect(path, crs)
        for finding in facts.findings:
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        layout, crs = facts.layout, facts.crs
    points, _ = _parse(path, layout, crs)
    return points


def write(points: Points, path: str | Path) -> None:
    """Write points as CSV with a header: x, y, the height field, code."""
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        coded = bool(points.codes.size)
        writer.writerow(["x", "y", points.height_field] + (["code"] if coded else []))
        for i in range(len(points)):
            row: list[Any] = [f"{points.x[i]:.3f}", f"{points.y[i]:.3f}", f"{points.z[i]:.3f}"]
            writer.writerow(row + ([points.codes[i]] if coded else []))
