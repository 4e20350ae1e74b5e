"""Tables of figures in the service."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ninja import Schema

from yama.service.holdings.kinds.kind import HoldingKind, grouped, moved
from yama.service.holdings.models import Holding
from yama.service.schemas import ColumnOut
from yama.terrain import table
from yama.terrain.findings import Finding
from yama.terrain.grid import Bounds
from yama.terrain.kinds import Kept
from yama.terrain.kinds.table import ROWS
from yama.terrain.table import Table


class TableFacts(Schema):
    """Of a table: its columns, and how many rows there are."""

    columns: list[ColumnOut]
    rows: int


class TableHolding(HoldingKind):
    """Kept as a file."""

    name = "table"
    none = "is not a table"
    folder = "tables"

    def load(self, holding: Holding) -> Table:
        return table.read(holding.table_path)

    def box(self, holding: Holding) -> tuple[str, Bounds] | None:
        return None

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        moved(folder / ROWS, holding.table_path)
        self._note(holding, kept.facts, kept.findings)

    def _note(self, holding: Holding, facts: dict[str, Any], findings: list[Finding]) -> None:
        holding.kind = self.name
        holding.facts = {**facts, "findings": [finding.to_dict() for finding in findings]}

    def keep_made(self, holding: Holding, made: Table, findings: list[Finding]) -> None:
        """Write a table that an operation gave, and save its row."""
        table.write(made, holding.table_path)
        self._note(holding, made.told, findings)
        holding.save()

    def known(self, holding: Holding) -> str:
        return f"{grouped(holding.facts['rows'])} rows"
