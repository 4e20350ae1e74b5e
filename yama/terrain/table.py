"""Tables: rows of values in columns with units, and facts about all of them."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from yama.terrain.errors import InputError
from yama.terrain.files import replacing

Cell = str | float | int | bool | None
ColumnType = Literal["number", "whole", "text", "yes_no"]

FORMAT = "yama-table/1"
MOST_COLUMNS, MOST_ROWS = 500, 1_000_000
_LONGEST = 10_000


@dataclass(frozen=True)
class Column:
    """A column of a table.

    Parameters
    ----------
    name : str
        Unique in the table.
    title : str
        What people call it.
    unit : str
        Of its numbers; empty where they have none.
    type : {"number", "whole", "text", "yes_no"}
        What its cells are; any may be missing, which is None.
    decimals : int, optional
        How many are worth showing; of numbers only.
    """

    name: str
    title: str
    unit: str = ""
    type: ColumnType = "number"
    decimals: int | None = None


@dataclass(frozen=True)
class Table:
    """Rows of values.

    Parameters
    ----------
    columns : tuple of Column
        Their names are unique.
    rows : sequence of tuple
        One value a column; None where there is none. Numbers are finite.
    facts : dict
        What is true of all rows together, or does not fit into rows, as plain JSON values by name.

    Raises
    ------
    InputError
        Where a row has another number of values than there are columns, or two columns share a name.

    Examples
    --------
    >>> made = Table((Column("place", "Place", type="text"), Column("error", "Error", "m")), [("quay", 0.25), ("skerry", None)])
    >>> made.column("error")
    [0.25, None]
    >>> made.to_csv().splitlines()
    ['Place,Error (m)', 'quay,0.25', 'skerry,']
    """

    columns: tuple[Column, ...]
    rows: Sequence[tuple[Cell, ...]]
    facts: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        names = [one.name for one in self.columns]
        if len(set(names)) != len(names):
            raise InputError(f"Two columns of this table have one name: {', '.join(names)}.")
        wrong = next((i for i, row in enumerate(self.rows) if len(row) != len(names)), None)
        if wrong is not None:
            raise InputError(
                f"Row {wrong + 1} of this table has {len(self.rows[wrong])} values; there are {len(names)} columns."
            )

    def __len__(self) -> int:
        return len(self.rows)

    def column(self, name: str) -> list[Cell]:
        """The values of a column, row by row. Raises KeyError where there is none of that name."""
        at = {one.name: i for i, one in enumerate(self.columns)}[name]
        return [row[at] for row in self.rows]

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            "columns": [vars(one) for one in self.columns],
            "rows": [list(row) for row in self.rows],
            "facts": self.facts,
        }

    @property
    def told(self) -> dict[str, Any]:
        """What is noted of it where its rows are not: its columns, and how many rows there are."""
        return {"columns": [vars(one) for one in self.columns], "rows": len(self)}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Table:
        """The inverse of `to_dict`. Raises InputError where it is not that, or where a value is none of its column's type."""
        try:
            columns = tuple(_column(one) for one in data["columns"])
            rows = [tuple(row) for row in data["rows"]]
            facts = dict(data.get("facts", {}))
        except (KeyError, TypeError, ValueError) as error:
            raise InputError(f"This is not a table as it is kept: {error}.") from error
        if len(columns) > MOST_COLUMNS or len(rows) > MOST_ROWS:
            raise InputError(f"A table of {len(columns)} columns and {len(rows)} rows is larger than tables of figures are: at most "
                             f"{MOST_COLUMNS} columns and {MOST_ROWS} rows.")  # fmt: skip
        made = cls(columns, rows, facts)
        for number, row in enumerate(rows, start=1):
            for column, value in zip(columns, row, strict=True):
                if value is not None and not _IS[column.type](value):
                    raise InputError(
                        f"Row {number} of this table: {str(value)[:40]!r} in the column {column.title} is no {_NAMES[column.type]}."
                    )
        return made

    def to_csv(self) -> str:
        """As CSV: a line of titles with units, then a line a row, with numbers in all their digits (RFC 4180)."""
        told = io.StringIO()
        lines = csv.writer(told, lineterminator="\r\n")
        lines.writerow([f"{one.title} ({one.unit})" if one.unit else one.title for one in self.columns])
        for row in self.rows:
            lines.writerow(
                ["" if one is None else ("yes" if one else "no") if isinstance(one, bool) else one for one in row]
            )
        return told.getvalue()


_IS: dict[ColumnType, Callable[[Any], bool]] = {
    "number": lambda value: type(value) in (int, float) and math.isfinite(value),
    "whole": lambda value: type(value) is int and abs(value) < 2**63,
    "text": lambda value: type(value) is str and len(value) <= _LONGEST,
    "yes_no": lambda value: type(value) is bool,
}
_NAMES: dict[ColumnType, str] = {"number": "number", "whole": "whole number", "text": "text", "yes_no": "yes or no"}


def _column(told: dict[str, Any]) -> Column:
    """A column as a file tells it. Raises TypeError or ValueError where it is not one."""
    made = Column(**told)
    if made.type not in _IS or not all(_IS["text"](one) for one in (made.name, made.title, made.unit)):
        raise ValueError("a column has a name, a title, a unit and a type that there is")
    if made.decimals is not None and not (type(made.decimals) is int and 0 <= made.decimals <= 15):
        raise ValueError("decimals are a whole number up to 15")
    return made


def write(table: Table, path: str | Path) -> None:
    """Write a table into a file, whole or not at all.

    Parameters
    ----------
    table : Table
        Without its facts where it is written as .csv.
    path : path
        Ends in .csv or .json.

    Raises
    ------
    InputError
        For another suffix.
    """
    path = Path(path)
    suffix = path.suffix.lower()
    if suffix not in (".csv", ".json"):
        raise InputError(f"Tables are written as .csv or .json, not as {suffix or 'a bare name'}.")
    text = table.to_csv() if suffix == ".csv" else json.dumps({"format": FORMAT, **table.to_dict()}, indent=2) + "\n"
    with replacing(path) as part:
        part.write_text(text, encoding="utf-8", newline="")


def read(path: str | Path) -> Table:
    """Read what `write` wrote as .json. Raises InputError where it is something else."""
    try:
        data = json.loads(Path(path).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise InputError(f"{path} is not a readable table: {error}") from error
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise InputError(f"{path} is not a table of the kind {FORMAT}.")
    return Table.from_dict(data)
