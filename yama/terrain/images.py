"""Images: seen from above, with a model that says where each cell sees the ground."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yama.terrain.grid import Bounds
from yama.terrain.stereo.rpc import RationalModel


@dataclass(frozen=True)
class Image:
    """An image file with its model. rows, cols: its size. crs, bounds: of its footprint."""

    path: Path
    model: RationalModel
    rows: int
    cols: int
    crs: str
    bounds: Bounds
    name: str
