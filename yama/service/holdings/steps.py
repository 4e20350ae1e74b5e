"""What a holding's step says of it, as the catalogue of operations has it."""

from __future__ import annotations

from yama.service.holdings.models import Holding
from yama.terrain import operations
from yama.terrain.quantities import Quantity
from yama.terrain.recipe import Step, parted


def quantity_of_step(step: Step | None, key: str = "") -> Quantity:
    """What the cells say of a surface that a step gave under a key; heights where it is a file or the output is none of cells."""
    if step is None:
        return "height"
    operation = operations.find(step.operation)
    values, first = operation.upgraded(step.params)
    output = operation.outputs_for(operations.parse_params(operation, values)).get(parted(key)[1] or first)
    return output.quantity or "height" if output else "height"


def quantity_of(holding: Holding) -> Quantity:
    """What a surface's cells say."""
    return quantity_of_step(holding.step, holding.key)
