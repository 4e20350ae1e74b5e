"""Surfaces in the service."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ninja import Schema

from yama.service.holdings.holes import keep_holes
from yama.service.holdings.kinds.kind import HoldingKind, grouped, moved
from yama.service.holdings.models import Holding
from yama.service.holdings.steps import quantity_of
from yama.service.projects.models import Project
from yama.terrain.findings import Finding
from yama.terrain.frame import Extent
from yama.terrain.grid import Bounds, Grid
from yama.terrain.kinds import Kept
from yama.terrain.kinds.surface import CELLS
from yama.terrain.surface import Statistics, StoredSurface, Surface

_COARSE = 3.0


class StatisticsOut(Schema):
    """Over all cells of a surface; heights are null where every cell is empty."""

    cells: int
    empty: int
    lowest: float | None
    highest: float | None
    mean: float | None
    deviation: float | None


class CategoryOut(Schema):
    """What a value of a surface of categories stands for."""

    value: int
    name: str
    colour: str


class SurfaceFacts(Schema):
    """Of a surface. `cell_size` is in metres on the ground; a `coarse` one's tiles carry gradients."""

    cell_size: float
    rows: int
    cols: int
    crs: str
    unit: str
    vertical_datum: str
    statistics: StatisticsOut
    quantity: str
    coarse: bool
    on_frame: bool
    categories: list[CategoryOut]


def is_coarse(frame: Grid, grid: Grid) -> bool:
    """Whether a surface's own cells are so much larger than the frame's that they are shown as they are."""
    return min(grid.metres_per_cell()) > _COARSE * min(frame.metres_per_cell())


def facts_of(surface: Surface, found: Statistics, findings: list[Finding]) -> dict[str, Any]:
    """What is noted of a surface in its row."""
    facts = {
        "grid": surface.grid.to_dict(),
        "statistics": found.to_dict(),
        "unit": surface.unit,
        "vertical_datum": surface.vertical_datum,
        "findings": [finding.to_dict() for finding in findings],
    }
    if surface.categories:
        told = [{"value": one.value, "name": one.name, "colour": one.colour} for one in surface.categories]
        facts["categories"] = told
    return facts


class SurfaceHolding(HoldingKind):
    """Its cells in a file where it is stored; nothing but its recipe where it is live."""

    name = "surface"
    none = "is not a surface"
    folder = "surfaces"

    def load(self, holding: Holding) -> StoredSurface:
        return StoredSurface(holding.cells_path)

    def facts(self, holding: Holding, project: Project) -> dict[str, Any]:
        facts, grid = holding.facts, Grid.from_dict(holding.facts["grid"])
        width, height = grid.metres_per_cell()
        return {
            "cell_size": (width * height) ** 0.5,
            "rows": grid.rows,
            "cols": grid.cols,
            "crs": grid.crs,
            "unit": facts["unit"],
            "vertical_datum": facts["vertical_datum"],
            "statistics": facts["statistics"],
            "quantity": quantity_of(holding),
            "coarse": is_coarse(project.frame.grid, grid),
            "on_frame": grid.is_in_step_with(project.frame.grid),
            "categories": facts.get("categories", []),
        }

    def box(self, holding: Holding) -> tuple[str, Bounds] | None:
        grid = Grid.from_dict(holding.facts["grid"])
        return grid.crs, grid.bounds

    def extent(self, holding: Holding) -> Extent:
        grid = Grid.from_dict(holding.facts["grid"])
        width, height = grid.metres_per_cell()
        return Extent(holding.name, grid.crs, grid.bounds, cell=(width * height) ** 0.5)

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        assert kept.statistics is not None
        moved(folder / CELLS, holding.cells_path)
        holding.facts = facts_of(self.load(holding), kept.statistics, kept.findings)
        if kept.file:
            keep_holes(holding, kept.holes)
            holding.facts["file"] = kept.file

    def is_judgeable(self, holding: Holding) -> bool:
        return quantity_of(holding) == "height"

    def known(self, holding: Holding) -> str:
        return f"{grouped(holding.facts['statistics']['cells'])} cells"
