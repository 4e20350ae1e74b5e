"""What cells of a file are written as: decimals, or whole numbers of a step, and a value for empty that no height has."""

from __future__ import annotations

import math
from typing import get_args

import numpy as np

from yama.terrain.cog import CellType, Encoding
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, Fix
from yama.terrain.surface import Statistics

_COARSE = 0.25
"""Steps of more of the height unit than this show as terraces on gentle ground."""
_FEW = 200
"""Steps between lowest and highest height below which relief is lost, however small a step is."""
_EMPTY = (-9999.0, -32768.0, -99999.0, -1e6, -1e9)


def steps_for(found: Statistics, cell_type: CellType) -> float:
    """The finest step of 1, 2 or 5 times a power of ten with which a type holds the range of heights."""
    if cell_type == "float32" or found.lowest is None or found.highest is None:
        return 1.0
    limits = np.iinfo(cell_type)
    most = max(found.highest / (limits.max - 1), found.lowest / limits.min if limits.min else 0.0, 1e-6)
    power = 10.0 ** math.floor(math.log10(most))
    return next(float(f"{factor * power:.6g}") for factor in (1, 2, 5, 10) if factor * power >= most)


def encoding_for(
    found: Statistics, cell_type: CellType = "float32", scale: float = 0.0, nan: bool = True, unit: str = "m"
) -> tuple[Encoding, list[Finding]]:
    """An encoding of a surface with these statistics, and what it loses.

    scale: the step of whole numbers, in the height unit; 0 takes the finest that fits, but none below 0.01. nan: whether
    empty cells of a decimal type are NaN; otherwise, and for whole numbers always, they get a value outside the data's
    range. Findings are `range` (a stop: the type cannot hold the heights) and `steps` (relief is rounded away).
    Raises InputError for a type or a step there is none of.
    """
    if cell_type not in get_args(CellType):
        raise InputError(f"Cells are written as {', '.join(get_args(CellType))}, not as {cell_type}.")
    if not (math.isfinite(scale) and scale >= 0):
        raise InputError("A step is a number above 0.")
    lowest, highest = found.lowest or 0.0, found.highest or 0.0
    if cell_type == "float32":
        if nan:
            return Encoding(), []
        return Encoding(nodata=next(one for one in _EMPTY if not lowest - 1 <= one <= highest + 1)), []
    finest = steps_for(found, cell_type)
    step = scale or max(finest, 0.01)
    limits = np.iinfo(cell_type)
    low, high = round(lowest / step), round(highest / step)
    free = [value for value in (-9999, limits.min, limits.max) if limits.min <= value <= limits.max]
    free = [value for value in free if not low <= value <= high]
    if low < limits.min or high > limits.max or not free:
        why = (
            "Heights below 0 need a type with a sign."
            if lowest < 0 <= limits.min
            else f"A step of {finest:g} {unit} would do."
        )
        fix = None if lowest < 0 <= limits.min else Fix(f"Take {finest:g} {unit}", {"step": finest})
        stop = Finding("range", "stop", f"{cell_type} in steps of {step:g} {unit} holds {limits.min * step:g} to "
                       f"{limits.max * step:g} {unit}; the heights run from {lowest:.2f} to {highest:.2f}.", why, fix)  # fmt: skip
        return Encoding(cell_type, step, float(limits.min)), [stop]
    findings = []
    if step > _COARSE or (highest - lowest) / step < _FEW:
        fine = max(finest, 0.01)
        findings.append(
            Finding("steps", "caution", f"Steps of {step:g} {unit} round relief away: {high - low} of them from the lowest "
                    "height to the highest.", "Gentle ground turns into terraces, and slopes with it.",
                    Fix(f"Take {fine:g} {unit}", {"step": fine}) if fine < step else None)
        )  # fmt: skip
    return Encoding(cell_type, step, float(free[0])), findings
