"""File formats. What a file is, is decided by looking into it, never by its name."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType
from typing import Literal

import shapely

from yama.terrain.cloud import Cloud, Reclassified
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding, refuse
from yama.terrain.formats import (
    archive,
    beside,
    delimited,
    height_tile,
    image,
    las,
    lattice,
    raster,
    rpc,
    text_grid,
    vector,
)
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.frame import Extent, extent_of_points
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.images import Image
from yama.terrain.points import Points
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import ArraySurface, Surface, store

Family = Literal["raster", "tile", "image", "table", "cloud", "vector", "archive"]
Facts = raster.RasterFacts | image.ImageFacts | delimited.TableFacts | las.CloudFacts | vector.VectorFacts
Held = Surface | Points | Cloud | Features | Image

READ = (
    "Surfaces: GeoTIFF, ASCII grid, NetCDF, PNG with heights, raw height tiles named by their corner. Points: CSV, TXT, spreadsheet. Clouds: LAS, LAZ. "
    "Lines and polygons: GeoPackage, shapefile, GeoJSON, KML, GPX, DXF. Images: GeoTIFF with rational polynomial "
    "coefficients in its tags, or together with their text. Or a zip of such files, or one packed with gzip."
)


def family_of(path: str | Path, name: str = "", declared: Declared = NOTHING) -> Family:
    """Which module reads a file, from its first bytes. Raises InputError for what none does.

    name: what people call the file, where that is not its name on disk. declared: with coefficients a GeoTIFF is an image.
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
        return "image" if driver == "GTiff" and (declared.rpc or image.has_model(path)) else "raster"
    if height_tile.side_of(path, name):
        return "tile"
    if rpc.is_rpc(start):
        raise InputError(f"{name} holds the coefficients of an image. Choose it together with the image, or zip them.")
    if start[:4] == b"LASF":
        return "cloud"
    if start[:4] == b"PK\x03\x04" and delimited.is_spreadsheet(path):
        return "table"
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


def glance(path: str | Path, declared: Declared = NOTHING, name: str = "") -> int:
    """Refuse at once what can be refused from a header; returns the number of cells or points that it claims, 0 where it
    claims none. Raises InputError."""
    family = family_of(path, name, declared)
    if family == "tile":
        return max(height_tile.SIDES) ** 2
    if family == "raster":
        facts = raster.header(path, declared, name)
        refuse(facts.findings)
        return facts.rows * facts.cols
    if family == "image":
        seen = image.header(path, declared, name)
        refuse(seen.findings)
        return seen.rows * seen.cols * seen.bands
    if family == "cloud":
        cloud = las.header(path, declared, name)
        refuse(cloud.findings)
        return cloud.count
    if family == "archive":
        if not archive.members(path, name):
            raise InputError(f"{name or Path(path).name} holds no files.")
    return 0


@contextmanager
def _as_raster(path: Path, name: str) -> Iterator[Path]:
    """A raw height tile as a file that says what it is, in a folder that is deleted afterwards."""
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        made = Path(folder) / "tile.tif"
        height_tile.as_geotiff(path, name, made)
        yield made


def _no_archive(name: str) -> InputError:
    return InputError(f"{name} is a zip of several files. Unpack it and name the file you mean.")


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
    family = family_of(path, name, declared)
    if family == "tile":
        with _as_raster(path, name) as made:
            return raster.inspect(made, declared, name, progress)
    if family == "raster":
        return raster.inspect(path, declared, name, progress)
    if family == "image":
        return image.inspect(path, declared, name, progress)
    if family == "cloud":
        return las.inspect(path, declared, name, progress)
    if family == "vector":
        return vector.look(path, declared, name, frame_crs)[0]
    if family == "archive":
        raise _no_archive(name)
    return delimited.inspect(path, declared, name, frame_crs)


def read(path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = "") -> Held:
    """What a file holds. Raises InputError with the reason against its use."""
    path = Path(path)
    name = name or path.name
    family = family_of(path, name, declared)
    if family == "tile":
        with _as_raster(path, name) as made:
            tile = raster.read(made, declared, name)
            return ArraySurface(tile.read_all(), tile.grid, tile.unit, tile.vertical_datum)
    if family == "raster":
        return raster.read(path, declared, name)
    if family == "image":
        return image.read(path, declared, name)
    if family == "cloud":
        return las.read(path, declared, name)
    if family == "vector":
        facts, held = vector.look(path, declared, name, frame_crs)
        refuse(facts.findings)
        return held
    if family == "archive":
        raise _no_archive(name)
    points = delimited.read(path, declared, name, frame_crs)
    return lattice.surface_of(points, name) if declared.grid else points


def write(
    held: Held | Reclassified,
    path: str | Path,
    progress: Progress = ignore_progress,
    tags: dict[str, str] | None = None,
) -> None:
    """Write what is held in the format that the suffix of `path` names, whole or not at all.

    Surfaces: .tif (COG, the only one that keeps unit, zero level and `tags`), .asc, .xyz. Points: .csv, .xlsx. Clouds:
    .las, .laz. Features: .gpkg, .shp, .geojson, .kml, .dxf. Raises InputError for any other, naming those there are.
    """
    path = Path(path)
    suffix = path.suffix.lower()
    if isinstance(held, Surface):
        if suffix in (".tif", ".tiff"):
            store(held, path, progress, tags=tags, given_away=True)
        elif suffix == ".asc":
            text_grid.write_ascii(held, path, progress=progress)
        elif suffix == ".xyz":
            text_grid.write_xyz(held, path, progress=progress)
        else:
            raise InputError(f"Surfaces are written as .tif, .asc or .xyz, not as {suffix or 'a bare name'}.")
    elif isinstance(held, Points):
        if suffix not in (".csv", ".txt", ".xlsx"):
            raise InputError(f"Points are written as .csv or .xlsx, not as {suffix or 'a bare name'}.")
        delimited.write(held, path)
    elif isinstance(held, Cloud):
        las.write(held, path, progress=progress)
    elif isinstance(held, Reclassified):
        held.classifier.prepare(lambda share: progress(0.8 * share))
        las.write(held.cloud, path, progress=lambda share: progress(0.8 + 0.2 * share), classes=held.classifier.classes)
    elif isinstance(held, Features):
        vector.write(held, path)
    else:
        raise InputError(f"{held.name} is an image, which is taken away as it came.")


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
    family = family_of(path, declared=declared)
    said = ""
    if family == "raster":
        said = raster.header(path, declared).crs
    elif family == "image":
        said = image.header(path, declared).crs
    elif family == "cloud":
        said = las.header(path, declared).crs
    elif family == "vector":
        said = vector.look(path, declared)[0].crs
    if not said:
        return declared.also({"crs": crs}), None
    note = f"{path.name} says its own CRS, {said[:60]}; {crs} is not used for it. Declare crs={crs} where its own is wrong."
    return declared, Finding("own_crs", "note", note) if parse_crs(said) != parse_crs(crs) else None


def extent(path: str | Path, name: str = "") -> Extent:
    """Where a file lies and how fine it is, from as little of it as will do. Raises InputError where it does not say."""
    path = Path(path)
    name = name or path.name
    family = family_of(path, name)
    if family == "tile":
        grid = read(path, NOTHING, name).grid  # type: ignore[union-attr]
        width, height = grid.metres_per_cell()
        return Extent(name, grid.crs, grid.bounds, cell=(width * height) ** 0.5)
    if family == "raster":
        facts = raster.header(path, NOTHING, name)
        refuse(facts.findings)
        grid = Grid.from_dict(facts.grid or {})
        width, height = grid.metres_per_cell()
        return Extent(name, grid.crs, grid.bounds, cell=(width * height) ** 0.5)
    if family == "image":
        seen = image.header(path, NOTHING, name)
        return Extent(name, seen.crs, seen.bounds)
    if family == "cloud":
        cloud = las.read(path, NOTHING, name)
        box = cloud.bounds
        spacing = ((box.east - box.west) * (box.north - box.south) / max(cloud.count, 1)) ** 0.5
        return Extent(name, cloud.crs, box, spacing=0.0 if parse_crs(cloud.crs).is_geographic else spacing)
    if family == "archive":
        raise _no_archive(name)
    if family == "vector":
        found, held = vector.look(path, NOTHING, name)
        refuse(found.findings)
        if isinstance(held, Features):
            polygons = shapely.get_dimensions(held.geometries) == 2
            shown = held.kept(polygons) if polygons.any() else held
            return Extent(name, held.crs, shown.bounds, boundary=bool(polygons.any()))
        return extent_of_points(held, name)
    return extent_of_points(delimited.read(path, NOTHING, name), name)
