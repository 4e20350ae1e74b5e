"""File formats. What a file is, is decided by looking into it; its name is only a hint between text tables."""

from __future__ import annotations

from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.formats import delimited, geotiff
from yama.terrain.points import Points
from yama.terrain.surface import Surface

_TIFF_STARTS = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def kind_of(path: str | Path, name: str = "") -> str:
    """`surface` or `points`, from the first bytes. Raises InputError for what is neither.

    name: what people call the file, where that is not its name on disk.
    """
    path = Path(path)
    name = name or path.name
    try:
        with path.open("rb") as file:
            start = file.read(512)
    except OSError as error:
        raise InputError(f"{name} cannot be opened: {error.strerror or error}.") from error
    if not start:
        raise InputError(f"{name} is empty.")
    if start[:4] in _TIFF_STARTS:
        return "surface"
    if b"\0" in start:
        raise InputError(f"{name} is of a kind that is not read yet. GeoTIFF surfaces and CSV or TXT points are.")
    return "points"


def inspect(path: str | Path, crs: str = "", name: str = "") -> geotiff.RasterFacts | delimited.TableFacts:
    """What a file is and what is wrong with it."""
    return geotiff.inspect(path, name) if kind_of(path, name) == "surface" else delimited.inspect(path, crs, name)


def read(path: str | Path, crs: str = "") -> Surface | Points:
    """The surface or points in a file. `crs` is used for tables whose coordinates are not degrees."""
    return geotiff.read(path) if kind_of(path) == "surface" else delimited.read(path, crs)
