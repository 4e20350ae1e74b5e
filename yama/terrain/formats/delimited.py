"""Tables of points: CSV and TXT with any usual separator, decimal point or comma, header or none; spreadsheets.

Text is parsed by a kernel over its bytes. A decimal number of at most fifteen digits and a small exponent is one
correctly rounded operation on integers that are exact (W. Clinger, "How to read floating point numbers accurately",
PLDI 1990); anything else, and every row that does not parse, goes through Python's own reading.
"""

from __future__ import annotations

import csv
import re
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import islice
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.findings import Finding, Fix, refuse
from yama.terrain.formats.archive import unpacked_size
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.lattice import grid_of
from yama.terrain.formats.point_checks import check_points
from yama.terrain.grid import parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.points import Points
from yama.terrain.units import FEET, UNITS, ask_unit, said_by_crs

_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
_GROUPED = re.compile(r"^[+-]?\d{1,3}(?:([., '\u2019\u00a0\u202f])\d{3})(?:\1\d{3})*(?:(?!\1)[.,]\d*)?$")
"""A number whose digits stand in threes."""
_GROUPING = ("", ".", ",", " ", "'", "\u2019", "\u00a0", "\u202f")
_ANY = "*"
_BETWEEN = re.compile(r"\s*[;,|\t]\s*|\s+")
_NAMES = {
    "x": ("x", "e", "east", "easting", "lon", "long", "longitude", "utm_e", "x_m", "rechts", "rechtswert", "ostwert", "este",
          "est", "x_coord", "xcoord", "coord_x", "coord x", "x utm", "utm x", "longitud", "lng"),
    "y": ("y", "n", "north", "northing", "lat", "latitude", "utm_n", "y_m", "hoch", "hochwert", "nordwert", "norte", "nord",
          "y_coord", "ycoord", "coord_y", "coord y", "y utm", "utm y", "latitud"),
    "z": ("z", "h", "height", "elev", "elevation", "alt", "altitude", "z_m", "height_m", "level", "elevation_m", "elev_m", "alt_m",
          "h\u00f6he", "hoehe", "cota", "cota_m", "altura", "altitud", "elevaci\u00f3n", "elevacion", "quota", "hauteur", "ele",
          "z_coord", "zcoord", "reduced level", "rl"),
    "code": ("code", "class", "type", "kind", "feature", "cover", "land_cover", "desc", "description", "c\u00f3digo", "codigo"),
}  # fmt: skip
_SAMPLE_ROWS = 200
_REGULAR = 0.8
"""Share of rows with as many cells from which a separator is believed."""
_SAMPLE_TEXT = 1 << 17
_UNIT_BEHIND = re.compile(r"\s*[\[(].*?[\])]\s*$")
_BLANK_LINES = re.compile(r"\n\s*\n")
_BLANK_BYTES = re.compile(rb"\n{2,}")
_LONGEST_ROW = 200_000
_MOST_COLUMNS = 2_000
_LARGEST = 1e9  # no coordinate or height in any unit in use is larger
_CHUNK = 1 << 22
_SHEET = "sheet"  # the separator of a spreadsheet's cells

_SHEET_ROWS = 1_048_576
"""Rows of a sheet, its header among them."""


@dataclass(frozen=True)
class Layout:
    """How a table is to be read. Columns are numbered from 0; None where there is none.

    separator: a character, a blank for any run of blanks, `*` for any of them, which a file may mix, or `sheet` for a spreadsheet.
    thousands: what stands between three digits and the next, or nothing. confidence: of the guess,
    0 to 1 by role; 1 where a person chose.
    """

    separator: str
    decimal: str
    header: bool
    columns: tuple[str, ...]
    x: int | None
    y: int | None
    z: int | None
    code: int | None
    encoding: str = "utf-8-sig"
    confidence: dict[str, float] = field(default_factory=dict)
    thousands: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "columns": list(self.columns)}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Layout:
        """The inverse of `to_dict`. Raises InputError for what cannot be a layout."""
        try:
            layout = cls(**{**data, "columns": tuple(str(name) for name in data["columns"])})
            "".encode(layout.encoding.removesuffix("-sig"))
        except (TypeError, KeyError, LookupError) as error:
            raise InputError(f"This is not a description of a table: {error}.") from error
        roles = (layout.x, layout.y, layout.z, layout.code)
        if any(
            not (column is None or (isinstance(column, int) and 0 <= column < len(layout.columns))) for column in roles
        ):
            raise InputError(f"A column was chosen that the table does not have; it has {len(layout.columns)}.")
        if (layout.separator != _SHEET and len(layout.separator) != 1) or layout.decimal not in (".", ","):
            raise InputError("The separator must be one character, the decimal mark a point or a comma.")
        if layout.thousands not in _GROUPING or layout.thousands == layout.decimal:
            raise InputError(
                "Between thousands stands a point, a comma, a blank or an apostrophe, and not the decimal mark."
            )
        return layout


@dataclass
class TableFacts:
    """A table looked at: its guessed layout, first rows, number of rows, and findings."""

    name: str
    layout: Layout
    rows: int
    first_rows: list[list[str]]
    crs: str
    unit: str = "m"
    findings: list[Finding] = field(default_factory=list)
    kind = "points"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            **vars(self),
            "layout": self.layout.to_dict(),
            "findings": [finding.to_dict() for finding in self.findings],
            "kind": self.kind,
        }


def _encoding(path: Path, name: str) -> str:
    with path.open("rb") as file:
        start = file.read(1 << 16)
    if start[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    if b"\0" in start:
        raise InputError(f"{name} is not a text table: it holds binary data. Export it as CSV.")
    try:
        start.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.start < len(start) - 4:
            return "cp1252"
    return "utf-8-sig"


def is_spreadsheet(path: Path) -> bool:
    """Whether a file is a spreadsheet: a zip with a workbook in it."""
    try:
        with zipfile.ZipFile(path) as held:
            return "xl/workbook.xml" in held.namelist()
    except (zipfile.BadZipFile, OSError):
        return False


def _sheet_rows(path: Path, name: str) -> Iterator[list[str]]:
    """Rows of a spreadsheet's first sheet as text."""
    from openpyxl import load_workbook  # only where a spreadsheet is read
    from openpyxl.utils.exceptions import InvalidFileException

    unpacked_size(path, name)
    try:
        with path.open("rb") as file:  # by its name the library would judge what it is
            book = load_workbook(file, read_only=True, data_only=True)
            for row in book.worksheets[0].iter_rows(values_only=True):
                cells = [
                    "" if value is None else repr(value) if isinstance(value, float) else str(value) for value in row
                ]
                if any(cell.strip() for cell in cells):
                    yield [cell.strip() for cell in cells]
            book.close()
    except (InvalidFileException, zipfile.BadZipFile, KeyError, ValueError, IndexError, ParseError, EOFError) as error:
        raise InputError(f"{name} cannot be read as a spreadsheet. Save it again, or export it as CSV.") from error


def _merged_cells(path: Path) -> int:
    """Number of merged ranges on a spreadsheet's sheets."""
    with zipfile.ZipFile(path) as held:
        sheets = [item for item in held.namelist() if item.startswith("xl/worksheets/sheet")]
        return sum(held.read(item).count(b"<mergeCell ") for item in sheets)


def _rows(path: Path, separator: str, encoding: str, name: str = "") -> Iterator[list[str]]:
    if separator == _SHEET:
        yield from _sheet_rows(path, name or path.name)
        return
    with path.open(encoding=encoding, errors="replace", newline="") as file:
        yield from _split(file, separator, name or path.name)


def _split(lines: Iterable[str], separator: str, name: str) -> Iterator[list[str]]:
    """Cells of the lines that have any."""
    if separator == " ":
        yield from (line.split() for line in lines if line.strip())
        return
    if separator == _ANY:
        yield from (_BETWEEN.split(line.strip()) for line in lines if line.strip())
        return
    try:
        for row in csv.reader(lines, delimiter=separator):
            if any(cell.strip() for cell in row):
                yield [cell.strip() for cell in row]
    except csv.Error as error:
        raise InputError(f"{name} cannot be read as a table: {error}.") from error


def _first_lines(path: Path, encoding: str, name: str) -> list[str]:
    """The first lines of a text that are not blank. Raises InputError where one is far too long to be a row."""
    lines: list[str] = []
    rest = ""
    with path.open(encoding=encoding, errors="replace") as file:
        while len(lines) < _SAMPLE_ROWS and (part := file.read(_SAMPLE_TEXT)):
            # runs of line ends at once: a file may have millions of them
            *whole, rest = _BLANK_LINES.sub("\n", rest + part).split("\n")
            lines += [line for line in whole if line.strip()]
            if len(rest) > _LONGEST_ROW:
                raise InputError(f"Row {len(lines) + 1} of {name} is longer than {_LONGEST_ROW // 1000} 000 characters: this is "
                                 "no table of points, or its lines end in no way known here. Export it again.")  # fmt: skip
    if rest.strip():
        lines.append(rest)
    return lines[:_SAMPLE_ROWS]


def _separator(lines: list[str]) -> str:
    lines = lines[1:] or lines  # names may be parted otherwise
    best, score = ",", 0.0
    for candidate in ("\t", ";", "|", ",", " "):
        counts = [len(line.split() if candidate == " " else line.split(candidate)) for line in lines]
        most = max(set(counts), key=counts.count)
        # a decimal comma makes commas as regular as separators, so the earlier candidates win ties
        value = counts.count(most) / len(counts) * (most > 1)
        if value > score + 0.1:
            best, score = candidate, value
    if score < _REGULAR:  # some rows of a file may have been put together from others
        counts = [len(_BETWEEN.split(line.strip())) for line in lines]
        most = max(set(counts), key=counts.count)
        if most > 2 and counts.count(most) / len(counts) > max(score + 0.1, _REGULAR):
            return _ANY
    return best


def _is_number(text: str) -> bool:
    return bool(_NUMBER.match(text) or _GROUPED.match(text)) or text.lower() in ("nan", "inf", "-inf")


def _marks(cells: list[str], separator: str) -> tuple[str, str]:
    """The decimal mark of numbers and what stands between their thousands, told by those that leave no doubt: two marks in one
    number, or one mark twice. One point or comma with three digits behind it may be either, and is a decimal mark."""
    decimals: Counter[str] = Counter()
    thousands: Counter[str] = Counter()
    for cell in cells:
        grouped = _GROUPED.match(cell)
        mark = grouped.group(1) if grouped else ""
        rest = re.sub(r"[^.,]", "", cell.replace(mark, "") if mark else cell)
        if mark and (mark not in ".," or rest or cell.count(mark) > 1):
            thousands[mark] += 1
            decimals.update(rest)
        elif not mark or mark in ".,":
            decimals.update(set(re.sub(r"[^.,]", "", cell)))
    grouping = thousands.most_common(1)[0][0] if thousands else ""
    if grouping in (".", ","):
        return ("," if grouping == "." else "."), grouping
    if separator in (",", _SHEET):
        return ".", grouping
    return ("," if decimals[","] else "."), grouping


def guess_layout(path: str | Path, name: str = "") -> tuple[Layout, list[list[str]]]:
    """Look at the first rows: separator, decimal mark, header, and which column is what.

    Raises InputError where the file is empty or not text.
    """
    path = Path(path)
    name = name or path.name
    if is_spreadsheet(path):
        encoding, separator = "utf-8", _SHEET
        rows = list(islice(_sheet_rows(path, name), _SAMPLE_ROWS))
    else:
        encoding = _encoding(path, name)
        lines = _first_lines(path, encoding, name)
        separator = _separator(lines)
        rows = list(_split(lines, separator, name))
    if not rows:
        raise InputError(f"{name} is empty.")
    if len(rows) > 1 and len(rows[0]) == 1 < len(rows[1]):  # names may be parted otherwise than numbers
        rows[0] = _BETWEEN.split(rows[0][0])
    header = len(rows[0]) > 1 and not any(_is_number(cell) for cell in rows[0])
    body = rows[1:] if header else rows
    width = max(len(row) for row in rows)
    if width > _MOST_COLUMNS:
        raise InputError(f"A row of {name} has {width} cells; {_MOST_COLUMNS} are the most that a table of points may have. "
                         "Export the columns for position, height and code.")  # fmt: skip
    names = tuple(rows[0][i] if header and i < len(rows[0]) else f"column {i + 1}" for i in range(width))

    def share(column: int) -> float:
        return sum(column < len(row) and _is_number(row[column]) for row in body) / max(len(body), 1)

    numeric = [column for column in range(width) if body and share(column) > 0.5]
    found: dict[str, int | None] = {}
    sure: dict[str, float] = {}
    for role, known in _NAMES.items():
        found[role] = next(
            (i for i, name in enumerate(names) if _bare(name) in known and (role == "code" or i in numeric)), None
        )
        if found[role] is not None:
            sure[role] = 0.95
    if None in (found["x"], found["y"]):
        plain = [column for column in numeric if not _is_counter(body, column)] if len(numeric) > 3 else numeric
        if len(plain) >= 3 or (not header and len(plain) >= 2):
            given = [found[role] for role in ("x", "y", "z")]
            if not header or all(column is None for column in given):
                found["x"], found["y"], found["z"] = (plain + [None] * 3)[:3]  # type: ignore[operator]
                sure = {**sure, **dict.fromkeys(("x", "y", "z"), 0.5 if len(plain) == 3 else 0.3)}
        texts = [column for column in range(width) if column not in numeric]
        if found["code"] is None and texts and not header:
            found["code"] = texts[-1]
            sure["code"] = 0.4
    told = [column for column in (found["x"], found["y"], found["z"]) if column is not None] or numeric
    decimal, thousands = _marks(
        [row[column] for row in body for column in told if column < len(row) and _is_number(row[column])], separator
    )
    layout = Layout(
        separator, decimal, header, names, found["x"], found["y"], found["z"], found["code"], encoding, sure, thousands
    )
    return layout, body[:12]


def _bare(name: str) -> str:
    """A column's name without its unit in brackets, in small letters."""
    return _UNIT_BEHIND.sub("", name.strip().lower()).strip()


def _is_counter(rows: list[list[str]], column: int) -> bool:
    """Whether a column counts 1, 2, 3..., as point numbers do."""
    try:
        values = [int(row[column]) for row in rows[:20]]
    except (ValueError, IndexError):
        return False
    return len(values) > 1 and all(b - a == 1 for a, b in zip(values, values[1:], strict=False))


def _guess_crs(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> str:
    finite = np.isfinite(x) & np.isfinite(y)
    if finite.any() and np.abs(x[finite]).max() <= 180 + 1e-6 and np.abs(y[finite]).max() <= 90 + 1e-6:
        return "EPSG:4326"
    return ""


def inspect(path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = "") -> TableFacts:
    """Look at a whole table. `frame_crs` is taken for coordinates that are not degrees and whose CRS nobody declared;
    `name` is what people call the file."""
    return look_at(path, declared, name, frame_crs)[0]


def look_at(
    path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = ""
) -> tuple[TableFacts, Points | None]:
    """What `inspect` finds, and the points as far as there are any, usable or not."""
    path = Path(path)
    name = name or path.name
    layout, first_rows = guess_layout(path, name)
    if declared.layout is not None:
        layout = Layout.from_dict(declared.layout)
    facts = TableFacts(name, layout, 0, first_rows, declared.crs or frame_crs, declared.unit or "m")
    add = facts.findings.append
    missing = [role for role in ("x", "y") if getattr(layout, role) is None]
    columns = f"Its columns are: {', '.join(layout.columns[:12])}{', ...' if len(layout.columns) > 12 else ''}."
    if missing:
        facts.rows = sum(1 for _ in _rows(path, layout.separator, layout.encoding, name)) - layout.header
        add(Finding("no_position", "stop", f"{name} has no column for {' and '.join(missing)}.",
                    f"{columns} Name them x, y and z, or choose them."))  # fmt: skip
        return facts, None
    if layout.z is None:
        add(Finding("no_height", "stop", f"{name} has no height column.",
                    f"{columns} Without heights nothing can be interpolated."))  # fmt: skip
    if layout.separator == _SHEET and (merged := _merged_cells(path)):
        add(Finding("merged_cells", "caution", f"{name} has {merged} merged cells.",
                    "A merged cell counts for its first row and column only; the others read as empty."))  # fmt: skip
    points, bad = _parse(path, layout, declared.crs or frame_crs or "EPSG:4326", name)
    points, found = check_points(points, name, declared)
    facts.rows = len(points) + len(bad)
    guessed = "" if declared.crs else _guess_crs(points.x, points.y)
    facts.crs = guessed or declared.crs or frame_crs
    points = _in(points, facts.crs, declared.unit)
    if guessed and frame_crs and not parse_crs(frame_crs).is_geographic:
        add(Finding("degrees", "caution", f"The coordinates in {name} look like degrees (all within 180 and 90).",
                    f"They are taken as longitude and latitude ({guessed}) and put into {frame_crs} for every use."))  # fmt: skip
    if bad:
        row, text = bad[0]
        add(
            Finding(
                "bad_rows",
                "caution",
                f"{len(bad)} of {facts.rows} rows of {name} hold no usable numbers.",
                f"The first is row {row}: {text[:60]!r}. They are left out; the file itself is kept as it is.",
            )
        )
    if len(points) < 3:
        add(Finding("too_few", "stop", f"{name} holds {len(points)} usable points.",
                    "A surface needs at least three, not on one line."))  # fmt: skip
    if not facts.crs:
        add(Finding("no_crs", "stop", f"{name} does not say its CRS.", "Name it, for example EPSG:32741.",
                    answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
    elif (
        layout.z is not None
        and not declared.unit
        and (ground := said_by_crs(parse_crs(facts.crs))[1]) not in (None, "m")
    ):
        add(ask_unit(name, str(ground)))
    if layout.z is not None and not declared.unit and FEET.search(layout.columns[layout.z]):
        add(Finding("feet", "caution", f"The height column of {name} is called {layout.columns[layout.z]!r}.",
                    "Heights in feet are 3.28 times too high when taken as metres.",
                    Fix("Take as feet", {"unit": "ft"})))  # fmt: skip
    if layout.z is not None and not declared.grid and (grid := grid_of(points)) is not None:
        add(Finding("lattice", "note", f"{name} lists the cells of a grid: {grid.cols} x {grid.rows} of "
                    f"{grid.cell_width:g} each.", "As a surface it needs no interpolating.",
                    Fix("Take as surface", {"grid": True})))  # fmt: skip
    facts.findings += found
    return facts, points


def _in(points: Points, crs: str, unit: str) -> Points:
    """The points with their CRS named and heights in metres."""
    fields = points.fields
    if unit and points.height_field in fields:
        fields = {**fields, points.height_field: fields[points.height_field] * UNITS[unit]}
    return replace(points, crs=crs or points.crs, fields=fields)


class _NeedsRowsError(Exception):
    """Text that the kernel cannot split, such as quoted cells."""


@kernel
def _parse_bytes(text, separator, decimal, columns, values, status, starts, ends, code_hash, code_at):
    """Rows of a chunk of text. columns: of x, y, z, code, -1 where none. Fills values `(rows, 3)`, where each row is,
    and hash and place of its code. status: 0 parsed, 1 to be looked at again. Returns the number of rows."""
    powers = np.array([1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16,
                       1e17, 1e18, 1e19, 1e20, 1e21, 1e22])  # fmt: skip
    size = text.size
    at = 0
    rows = 0
    while at < size:
        start = at
        end = at
        blank = True
        while end < size and text[end] != 10:
            blank = blank and (text[end] == 32 or text[end] == 13 or text[end] == 9 or text[end] == separator)
            end += 1
        at = end + 1
        if blank:
            continue
        starts[rows] = start
        ends[rows] = end
        good = 0
        column = 0
        place = start
        code_hash[rows] = 0
        code_at[rows, 0] = 0
        code_at[rows, 1] = 0
        for k in range(3):
            values[rows, k] = np.nan
        while place <= end:
            if separator == 32:
                while place < end and (text[place] == 32 or text[place] == 9 or text[place] == 13):
                    place += 1
                if place >= end:
                    break
            first = place
            while place < end and not (
                text[place] == separator or (separator == 32 and (text[place] == 9 or text[place] == 13))
            ):
                place += 1
            last = place
            while first < last and (text[first] == 32 or text[first] == 9):
                first += 1
            while last > first and (text[last - 1] == 32 or text[last - 1] == 9 or text[last - 1] == 13):
                last -= 1
            if column == columns[3]:
                mixed = np.uint64(14695981039346656037)
                for i in range(first, last):
                    mixed = (mixed ^ np.uint64(text[i])) * np.uint64(1099511628211)
                code_hash[rows] = mixed
                code_at[rows, 0] = first
                code_at[rows, 1] = last
            for k in range(3):
                if column != columns[k]:
                    continue
                i = first
                negative = i < last and text[i] == 45
                if i < last and (text[i] == 45 or text[i] == 43):
                    i += 1
                mantissa = 0
                digits = 0
                shift = 0
                seen = False
                point = False
                while i < last:
                    letter = text[i]
                    if 48 <= letter <= 57:
                        seen = True
                        if mantissa or letter != 48:
                            digits += 1
                        if digits <= 15:
                            mantissa = mantissa * 10 + (letter - 48)
                        if point:
                            shift -= 1
                    elif letter == decimal and not point:
                        point = True
                    else:
                        break
                    i += 1
                if i < last and seen and (text[i] == 69 or text[i] == 101):
                    i += 1
                    down = i < last and text[i] == 45
                    if i < last and (text[i] == 45 or text[i] == 43):
                        i += 1
                    power = 0
                    any_digit = False
                    while i < last and 48 <= text[i] <= 57 and power < 1000:
                        power = power * 10 + (text[i] - 48)
                        any_digit = True
                        i += 1
                    seen = seen and any_digit
                    shift += -power if down else power
                if i == last and seen and digits <= 15 and -22 <= shift <= 22:
                    value = mantissa * powers[shift] if shift >= 0 else mantissa / powers[-shift]
                    values[rows, k] = -value if negative else value
                    good += 1
            column += 1
            place += 1
        wanted = 0
        for k in range(3):
            wanted += columns[k] >= 0
        status[rows] = 0 if good == wanted else 1
        rows += 1
    return rows


def _chunks(path: Path, encoding: str) -> Iterator[bytes]:
    """The text as bytes of UTF-8 or of the same one-byte encoding, cut at line ends."""
    rest = b""
    if encoding == "utf-16":
        with path.open(encoding=encoding, errors="replace", newline="") as text:
            while part := text.read(_CHUNK):
                held = rest + part.encode()
                cut = held.rfind(b"\n") + 1
                yield held[:cut]
                rest = held[cut:]
    else:
        with path.open("rb") as file:
            if file.read(3) != b"\xef\xbb\xbf":
                file.seek(0)
            while part_bytes := file.read(_CHUNK):
                held = rest + part_bytes
                cut = held.rfind(b"\n") + 1
                yield held[:cut]
                rest = held[cut:]
    if rest:
        yield rest


def _parse(path: Path, layout: Layout, crs: str, name: str = "") -> tuple[Points, list[tuple[int, str]]]:
    """Points of all usable rows, and number and text of the others."""
    try:
        if layout.separator in (_SHEET, _ANY) or layout.thousands:
            raise _NeedsRowsError
        values, codes, bad = _parse_text(path, layout)
    except _NeedsRowsError:
        values, codes, bad = _parse_rows(_rows(path, layout.separator, layout.encoding, name), layout)
    height = layout.columns[layout.z] if layout.z is not None else ""
    points = Points(
        crs=crs,
        x=np.ascontiguousarray(values[:, 0]),
        y=np.ascontiguousarray(values[:, 1]),
        fields={height: np.ascontiguousarray(values[:, 2])} if height else {},
        codes=codes,
        height_field=height or "z",
    )
    return points, bad


def _parse_text(
    path: Path, layout: Layout
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.str_], list[tuple[int, str]]]:
    columns = np.array([-1 if c is None else c for c in (layout.x, layout.y, layout.z, layout.code)], np.int64)
    encoding = "utf-8" if layout.encoding == "utf-16" else layout.encoding.removesuffix("-sig")
    kept: list[npt.NDArray[np.float64]] = []
    codes: list[npt.NDArray[np.str_]] = []
    bad: list[tuple[int, str]] = []
    before = 0
    for chunk in _chunks(path, layout.encoding):
        if b'"' in chunk or (b"\r" in chunk and b"\n" not in chunk):
            raise _NeedsRowsError
        if b"\n\n\n" in chunk:  # room is made for each line
            chunk = _BLANK_BYTES.sub(b"\n", chunk)
        text = np.frombuffer(chunk, np.uint8)
        most = chunk.count(b"\n") + 1
        values, status = np.empty((most, 3)), np.empty(most, np.uint8)
        starts, ends = np.empty(most, np.int64), np.empty(most, np.int64)
        code_hash, code_at = np.empty(most, np.uint64), np.empty((most, 2), np.int64)
        rows = _parse_bytes(
            text, ord(layout.separator), ord(layout.decimal), columns, values, status, starts, ends, code_hash, code_at
        )
        first = int(layout.header and before == 0)
        keep = np.zeros(rows, np.bool_)
        present = columns[:3] >= 0
        keep[first:] = (status[first:rows] == 0) & (np.abs(values[first:rows][:, present]) <= _LARGEST).all(1)
        for row in np.flatnonzero(~keep[first:]) + first:
            line = chunk[starts[row] : ends[row]].decode(encoding, "replace").rstrip("\r")
            cells = line.split() if layout.separator == " " else [cell.strip() for cell in line.split(layout.separator)]
            numbers = _numbers(cells, layout)
            if numbers is None:
                bad.append((before + int(row) + 1, line))
            else:
                values[row], keep[row] = numbers, True
        kept.append(values[:rows][keep])
        if layout.code is not None:
            _, where, group = np.unique(code_hash[:rows][keep], return_index=True, return_inverse=True)
            places = code_at[:rows][keep]
            names = [chunk[places[i, 0] : places[i, 1]].decode(encoding, "replace") for i in where]
            codes.append(np.array(names or [""], np.str_)[group])
        before += rows
    return (
        np.vstack([*kept, np.empty((0, 3))]),
        np.concatenate(codes) if codes else np.empty(0, "U1"),
        bad,
    )


def _numbers(cells: list[str], layout: Layout) -> list[float] | None:
    """x, y and height of a row, NaN for a column that is not there; None where one is not a usable number."""
    found = []
    for column in (layout.x, layout.y, layout.z):
        if column is None:
            found.append(np.nan)
            continue
        try:
            cell = cells[column]
            if layout.thousands and layout.thousands in cell:
                if not _GROUPED.match(cell):
                    return None
                cell = cell.replace(layout.thousands, "")
            value = float(cell.replace(",", ".") if layout.decimal == "," else cell)
        except (ValueError, IndexError):
            return None
        if not abs(value) <= _LARGEST:  # NaN fails this too
            return None
        found.append(value)
    return found


def _parse_rows(
    rows: Iterator[list[str]], layout: Layout
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.str_], list[tuple[int, str]]]:
    values: list[list[float]] = []
    codes: list[str] = []
    bad: list[tuple[int, str]] = []
    for number, row in enumerate(rows, start=1):
        if number == 1 and layout.header:
            continue
        numbers = _numbers(row, layout)
        if numbers is None:
            bad.append((number, (" " if layout.separator in (_SHEET, _ANY) else layout.separator).join(row)))
            continue
        values.append(numbers)
        if layout.code is not None:
            codes.append(row[layout.code] if layout.code < len(row) else "")
    return np.array(values, np.float64).reshape(-1, 3), np.array(codes, np.str_) if codes else np.empty(0, "U1"), bad


def read(path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = "") -> Points:
    """Points of a table, heights in metres; rows without usable numbers are left out (`inspect` counts them).

    Raises InputError with the first reason against use.
    """
    return look(path, declared, name, frame_crs)[1]


def look(
    path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = ""
) -> tuple[TableFacts, Points]:
    """What `inspect` finds and the points `read` gives, parsed once. Raises InputError as `read` does."""
    facts, points = look_at(path, declared, name, frame_crs)
    refuse(facts.findings)
    assert points is not None
    return facts, points


def write(points: Points, path: str | Path) -> None:
    """Write points as a table with a header: x, y, every number column, code, every text column. A spreadsheet where `path` ends with .xlsx,
    else CSV. Places have nine decimals in degrees and three in other units, other numbers three; empty where unknown.
    """
    path = Path(path)
    coded = bool(points.codes.size)
    header = ["x", "y", *points.fields, *(["code"] if coded else []), *points.texts]
    places = 9 if parse_crs(points.crs).is_geographic else 3

    columns = [(points.x, places), (points.y, places), *((values, 3) for values in points.fields.values())]

    def rows(number: Callable[[float, int], Any]) -> Iterator[list[Any]]:
        for i in range(len(points)):
            row = [number(float(values[i]), to) if np.isfinite(values[i]) else None for values, to in columns]
            yield row + ([str(points.codes[i])] if coded else []) + [str(one[i]) for one in points.texts.values()]

    with replacing(path) as part:
        if path.suffix.lower() != ".xlsx":
            with part.open("w", newline="", encoding="utf-8") as file:
                writer = csv.writer(file)
                writer.writerow(header)
                writer.writerows(rows(lambda value, to: f"{value:.{to}f}"))
            return
        if len(points) >= _SHEET_ROWS:
            raise InputError(f"A spreadsheet has room for {_SHEET_ROWS} rows; these are {len(points)} points. "
                             "Write CSV instead.")  # fmt: skip
        from openpyxl import Workbook  # only where a spreadsheet is written

        book = Workbook(write_only=True)
        sheet = book.create_sheet("points")
        sheet.append(header)
        for row in rows(round):
            sheet.append(row)
        book.save(part)
