"""Point clouds: too many points to hold at once, so a cloud is its file and what is known of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yama.terrain.grid import Bounds


@dataclass(frozen=True)
class Cloud:
    """A LAS or LAZ file as declared. unit: of the heights in it. bounds: in its CRS, as its header says."""

    path: Path
    crs: str
    unit: str
    count: int
    bounds: Bounds
    name: str
