"""How surfaces do at checkpoints."""

from __future__ import annotations

from typing import Any

from yama.service.holdings.kinds import POINTS
from yama.service.holdings.models import Holding
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.units import in_unit


def figures_at(holding: Holding, checkpoints: Holding) -> dict[str, Any]:
    """How a surface does at checkpoints, in the frame's unit, as a scorecard has it. Only heights can be judged."""
    surface = in_unit(keys.surface_of_holding(holding), holding.project.frame.unit)
    try:
        return {"figures": accuracy(surface, POINTS.load(checkpoints)).to_dict(), "reason": ""}
    except InputError as error:
        return {"figures": None, "reason": str(error)}
