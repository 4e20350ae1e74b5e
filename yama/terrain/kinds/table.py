"""Tables of figures."""

from __future__ import annotations

from pathlib import Path

from yama.terrain import table
from yama.terrain.errors import InputError
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.progress import Progress
from yama.terrain.table import Table

ROWS = "rows.json"
"""The file in which rows are kept."""


class TableKind(Kind[Table]):
    """What operations find in figures."""

    name = "table"
    title = "tables"
    holds = Table
    suffixes = (".csv", ".json")

    def write(self, held: Table, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        table.write(held, path)

    def keep(self, held: Table, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        table.write(held, folder / ROWS)
        return Kept(self.name, looked.facts, looked.findings)

    def extent(self, held: Table, name: str, meant: bool) -> Extent:
        raise InputError(f"{name} is a table, which lies nowhere.")
