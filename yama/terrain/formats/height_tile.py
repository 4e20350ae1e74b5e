"""Raw height tiles: nothing but 1201 x 1201 or 3601 x 3601 big-endian whole numbers, north first; their name says where.

The name is that of the south-west corner, such as S42E062. Heights are at whole seconds, the outermost on the tile's edges, so
that neighbours share a row or column; -32768 is empty. Heights are metres above the geoid, places WGS 84.
"""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.later import later

rasterio = later("rasterio")

SIDES = (1201, 3601)
_CORNER = re.compile(r"(?<![A-Za-z0-9])([NS])(\d{2})([EW])(\d{3})(?![0-9])", re.IGNORECASE)


def side_of(path: Path, name: str) -> int | None:
    """Cells along a side, where a file is such a tile by its size and name."""
    side = next((side for side in SIDES if path.stat().st_size == side * side * 2), None)
    return side if side and _CORNER.search(Path(name).name) else None


def as_geotiff(path: Path, name: str, target: Path) -> None:
    """Write a tile as a GeoTIFF of the same whole numbers. Raises InputError where it is none, or lies nowhere on the earth."""
    side, corner = side_of(path, name), _CORNER.search(Path(name).name)
    if side is None or corner is None:
        raise InputError(
            f"{name} is no raw height tile: such a file is named by its south-west corner, as S42E062.hgt is."
        )
    south = int(corner.group(2)) * (1 if corner.group(1).upper() == "N" else -1)
    west = int(corner.group(4)) * (1 if corner.group(3).upper() == "E" else -1)
    if not (-90 <= south < 90 and -180 <= west < 180):
        raise InputError(f"{name} names a corner that is nowhere on the earth.")
    step = 1 / (side - 1)
    transform = rasterio.Affine(step, 0, west - step / 2, 0, -step, south + 1 + step / 2)
    cells = np.fromfile(path, ">i2").reshape(1, side, side).astype(np.int16)
    with (
        replacing(target) as part,
        rasterio.open(
            part, "w", driver="GTiff", width=side, height=side, count=1, dtype="int16", crs="EPSG:4326", nodata=-32768,
            transform=transform, tiled=True, compress="deflate",
        ) as dataset,
    ):  # fmt: skip
        dataset.write(cells)
