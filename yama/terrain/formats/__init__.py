"""File formats. What a file is, is decided by looking into it, never by its name."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType

from yama.terrain import table
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats import beside, delimited, height_tile, image, raster, rpc, vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.families import FAMILIES, Facts, Family, Name
from yama.terrain.frame import Extent
from yama.terrain.grid import parse_crs
from yama.terrain.held import Held
from yama.terrain.progress import Progress, ignore_progress

__all__ = [
    "READ",
    "Facts",
    "Family",
    "Name",
    "extent",
    "family",
    "family_of",
    "glance",
    "inspect",
    "placed_in",
    "read",
    "with_beside",
]  # fmt: skip

READ = (
    "Surfaces: GeoTIFF, ASCII grid, NetCDF, PNG with heights, raw height tiles named by their corner. Points: CSV, TXT, spreadsheet. Clouds: LAS, LAZ. "
    "Lines and polygons: GeoPackage, shapefile, GeoJSON, KML, GPX, DXF. Images: GeoTIFF with rational polynomial "
    "coefficients in its tags, or together with their text. Pictures: GeoTIFF, PNG or JPEG with a position. Or a zip of "
    "such files, or one packed with gzip."
)


def family_of(path: str | Path, name: str = "", declared: Declared = NOTHING) -> Name:
    """Which module reads a file, from its first bytes. Raises InputError for what none does.

    name: what people call the file, where that is not its name on disk. declared: with coefficients a GeoTIFF is an
    image, and a raster may be a picture.
    """
    path = Path(path)
    name = name or path.name
    try:
        with path.open("rb") as file:
            start = file.read(4096)
    except OSError as error:
        raise InputError(f"{name} cannot be opened: {error.strerror or error}.") from error
    if not start.strip():
        raise InputError(f"{name} is empty.")
    driver = raster.driver_of(start)
    if driver:
        if driver == "JPEG" or declared.picture:
            return "picture"
        return "image" if driver == "GTiff" and (declared.rpc or image.has_model(path)) else "raster"
    if height_tile.side_of(path, name):
        return "tile"
    if rpc.is_rpc(start):
        raise InputError(f"{name} holds the coefficients of an image. Choose it together with the image, or zip them.")
    if start[:4] == b"LASF":
        return "cloud"
    if start[:4] == b"PK\x03\x04" and delimited.is_spreadsheet(path):
        return "table"
    if start.lstrip()[:1] == b"{" and table.FORMAT.encode() in start[:200]:
        return "figures"
    if vector.family_of(path, start, name):
        return "vector"
    if start[:2] in (b"PK", b"\x1f\x8b"):
        return "archive"
    if start[:4] in (b"\x00\x00\x27\x0a",) or name.lower().endswith((".shp", ".shx", ".dbf", ".cpg")):
        raise InputError(
            f"{name} is one part of a shapefile. Choose its .shp, .shx, .dbf and .prj together, or zip them."
        )
    if beside.is_beside_something(name):
        raise InputError(
            f"{name} belongs to another file, of which it says something. Choose it together with that, or zip them."
        )
    if b"\0" in start and start[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        raise InputError(f"{name} is of a kind that is not read. {READ}")
    if start.lstrip()[:1] == b"<":
        raise InputError(f"{name} is an XML or HTML page, not data that is read. {READ}")
    return "table"


def family(path: str | Path, name: str = "", declared: Declared = NOTHING) -> Family:
    """Which family a file is of; see `family_of`."""
    return FAMILIES[family_of(path, name, declared)]


def glance(path: str | Path, declared: Declared = NOTHING, name: str = "") -> int:
    """Refuse at once what can be refused from a header; returns the number of cells or points that it claims, 0 where it
    claims none. Raises InputError."""
    path = Path(path)
    name = name or path.name
    return family(path, name, declared).glance(path, declared, name)


def inspect(
    path: str | Path,
    declared: Declared = NOTHING,
    name: str = "",
    frame_crs: str = "",
    progress: Progress = ignore_progress,
) -> Facts:
    """What a file is and what is wrong with it, all of it read. frame_crs: for tables and drawings that name none."""
    path = Path(path)
    name = name or path.name
    return family(path, name, declared).inspect(path, declared, name, frame_crs, progress)


def read(path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = "") -> Held:
    """What a file holds. Raises InputError with the reason against its use."""
    path = Path(path)
    name = name or path.name
    return family(path, name, declared).read(path, declared, name, frame_crs)


def with_beside(
    path: str | Path, declared: Declared, name: str, files: Mapping[str, Path], names: Mapping[str, str]
) -> Declared:
    """What is declared about a raster, with what the files beside it say and it does not; see `beside.companions`. files, names: of
    those, by what they are. Raises InputError."""
    with Path(path).open("rb") as file:
        is_raster = bool(raster.driver_of(file.read(512)))
    if not files or not is_raster:
        return declared
    if "rpc" in files:
        return beside.said_beside(files, names, set(), declared)
    facts = raster.header(path, declared, name)
    lacks = {
        key
        for key, code in (("crs", "no_crs"), ("place", "no_place"))
        if any(one.code == code for one in facts.findings)
    }
    if "place" in lacks and not facts.crs:
        lacks.add("crs")
    return beside.said_beside(files, names, lacks | ({"nodata"} if facts.nodata is None else set()), declared)


def placed_in(
    path: str | Path, declared: Declared, crs: str, files: Mapping[str, Path] = MappingProxyType({})
) -> tuple[Declared, Finding | None]:
    """What is declared about a file when somebody names a CRS for it: that CRS where the file does not say its own, as no table
    does; else what was declared already, with a note that the file's own counts. files: that stand beside it, see `with_beside`.
    Raises InputError."""
    path = Path(path)
    declared = with_beside(path, declared, path.name, files, {kind: one.name for kind, one in files.items()})
    if not crs or declared.crs:
        return declared, None
    said = family(path, declared=declared).said_crs(path, declared)
    if not said:
        return declared.also({"crs": crs}), None
    note = f"{path.name} says its own CRS, {said[:60]}; {crs} is not used for it. Declare crs={crs} where its own is wrong."
    return declared, Finding("own_crs", "note", note) if parse_crs(said) != parse_crs(crs) else None


def extent(path: str | Path, name: str = "", declared: Declared = NOTHING) -> Extent:
    """Where a file lies and how fine it is, from as little of it as will do. Raises InputError where it does not say."""
    path = Path(path)
    name = name or path.name
    return family(path, name, declared).extent(path, declared, name)
