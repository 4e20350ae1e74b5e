"""The families of formats: how a file of each is told from others, looked at and read."""

from __future__ import annotations

import tempfile
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Literal

import shapely

from yama.terrain import table
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding, refuse
from yama.terrain.formats import archive, delimited, height_tile, image, las, lattice, picture, raster, vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.frame import Extent, extent_of_points
from yama.terrain.grid import Bounds, Grid, parse_crs
from yama.terrain.held import Held
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import ArraySurface
from yama.terrain.voids import Holes

Name = Literal["raster", "tile", "image", "picture", "table", "cloud", "vector", "archive", "figures"]


@dataclass
class FiguresFacts:
    """What is known of a table of figures."""

    name: str
    columns: list[str]
    rows: int
    findings: list[Finding] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {"kind": "figures", "name": self.name, "columns": self.columns, "rows": self.rows, "findings": []}


Facts = (
    raster.RasterFacts
    | image.ImageFacts
    | picture.PictureFacts
    | delimited.TableFacts
    | las.CloudFacts
    | vector.VectorFacts
    | FiguresFacts
)


@dataclass
class Looked:
    """All that a file says, read to its end.

    Parameters
    ----------
    held : what is held
        Of the file.
    facts : dict
        What is known of it, as plain JSON values.
    findings : list of Finding
        About it, none of which stops it.
    holes : Holes, optional
        Of a raster.
    file : dict
        What is known of a raster's own file.
    declared : Declared
        About a picture, whose cells are read when it is kept.
    """

    held: Held
    facts: dict[str, Any]
    findings: list[Finding]
    holes: Holes | None = None
    file: dict[str, Any] = field(default_factory=dict)
    declared: Declared = NOTHING


class Family(ABC):
    """Formats that one module reads.

    Attributes
    ----------
    name : str
        Of the family.
    is_asked : bool
        Its files are shown as a table before they are taken in, so that nothing of them is refused at a glance.
    is_packed : bool
        What a file unpacks to may be much more than its size.
    holds_files : bool
        It holds several files, each of a family of its own.
    """

    name: ClassVar[Name]
    is_asked: ClassVar[bool] = False
    is_packed: ClassVar[bool] = False
    holds_files: ClassVar[bool] = False

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        """The number of cells or points that a file claims, 0 where it claims none. Raises InputError for what can be refused from a
        header."""
        return 0

    def said_crs(self, path: Path, declared: Declared) -> str:
        """The CRS that a file says itself; empty where it says none."""
        return ""

    @abstractmethod
    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        """What a file is and what is wrong with it, all of it read."""

    @abstractmethod
    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        """What a file holds. crs: of files that say none. Raises InputError with the reason against its use."""

    @abstractmethod
    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        """All of a file; see `read`. A raster has to stay where it is until its cells have been read."""

    @abstractmethod
    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        """Where a file lies and how fine it is, from as little of it as will do."""


class RasterFamily(Family):
    """Heights on a grid, in any of several containers."""

    name = "raster"

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        facts = raster.header(path, declared, name)
        refuse(facts.findings)
        return facts.rows * facts.cols

    def said_crs(self, path: Path, declared: Declared) -> str:
        return raster.header(path, declared).crs

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return raster.inspect(path, declared, name, progress)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return raster.read(path, declared, name)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        facts = raster.inspect(path, declared, name, progress)
        refuse(facts.findings)
        file = {
            "bands": facts.bands, "cell_type": facts.cell_type, "nodata": None if facts.nodata is None else str(facts.nodata),
            "driver": facts.driver, "bytes": path.stat().st_size,
        }  # fmt: skip
        return Looked(raster.read(path, declared, name), {}, facts.findings, facts.holes, file)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        facts = raster.header(path, declared, name)
        refuse(facts.findings)
        return _extent_of_grid(Grid.from_dict(facts.grid or {}), name)


class TileFamily(Family):
    """Raw heights of one degree, told by their size and named by their corner."""

    name = "tile"

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        return int(max(height_tile.SIDES) ** 2)

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        with as_raster(path, name) as made:
            return raster.inspect(made, declared, name, progress)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        with as_raster(path, name) as made:
            tile = raster.read(made, declared, name)
            return ArraySurface(tile.read_all(), tile.grid, tile.unit, tile.vertical_datum)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        with as_raster(path, name) as made:
            looked = FAMILIES["raster"].look(made, declared, name, crs, progress)
        looked.held = self.read(path, declared, name, crs)
        looked.file["bytes"] = path.stat().st_size
        return looked

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        with as_raster(path, name) as made:
            return _extent_of_grid(raster.read(made, declared, name).grid, name)


class ImageFamily(Family):
    """Images with rational polynomial coefficients."""

    name = "image"

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        seen = image.header(path, declared, name)
        refuse(seen.findings)
        return seen.rows * seen.cols * seen.bands

    def said_crs(self, path: Path, declared: Declared) -> str:
        return image.header(path, declared).crs

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return image.inspect(path, declared, name, progress)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return image.read(path, declared, name)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        seen = image.inspect(path, declared, name, progress)
        refuse(seen.findings)
        return Looked(image.read(path, declared, name), seen.to_dict(), seen.findings)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        seen = image.header(path, declared, name)
        return Extent(name, seen.crs, seen.bounds)


class PictureFamily(Family):
    """Pictures with a position."""

    name = "picture"

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        seen = picture.header(path, declared, name)
        refuse(seen.findings)
        return seen.rows * seen.cols * seen.bands

    def said_crs(self, path: Path, declared: Declared) -> str:
        return picture.header(path, declared).crs

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return picture.header(path, declared, name)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return picture.read(path, declared, name)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        seen = picture.header(path, declared, name)
        refuse(seen.findings)
        return Looked(picture.read(path, declared, name), seen.to_dict(), seen.findings, declared=declared)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        seen = picture.header(path, declared, name)
        refuse(seen.findings)
        return Extent(name, seen.crs, Bounds(*seen.bounds))


class CloudFamily(Family):
    """Point clouds."""

    name = "cloud"

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        facts = las.header(path, declared, name)
        refuse(facts.findings)
        return facts.count

    def said_crs(self, path: Path, declared: Declared) -> str:
        return las.header(path, declared).crs

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return las.inspect(path, declared, name, progress)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return las.read(path, declared, name)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        facts = las.inspect(path, declared, name, progress)
        refuse(facts.findings)
        return Looked(las.read(path, declared, name), facts.to_dict(), facts.findings)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        cloud = las.read(path, declared, name)
        box = cloud.bounds
        spacing = ((box.east - box.west) * (box.north - box.south) / max(cloud.count, 1)) ** 0.5
        return Extent(name, cloud.crs, box, spacing=0.0 if parse_crs(cloud.crs).is_geographic else spacing)


class VectorFamily(Family):
    """Lines and polygons; points of them become points."""

    name = "vector"
    is_packed = True

    def said_crs(self, path: Path, declared: Declared) -> str:
        return vector.look(path, declared)[0].crs

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return vector.look(path, declared, name, frame_crs)[0]

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return self.look(path, declared, name, crs, ignore_progress).held

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        facts, held = vector.look(path, declared, name, crs)
        refuse(facts.findings)
        return Looked(held, facts.to_dict(), facts.findings)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        held = self.read(path, declared, name, "")
        if isinstance(held, Features):
            polygons = shapely.get_dimensions(held.geometries) == 2
            shown = held.kept(polygons) if polygons.any() else held
            return Extent(name, held.crs, shown.bounds, boundary=bool(polygons.any()))
        return extent_of_points(held, name)  # type: ignore[arg-type]


class TableFamily(Family):
    """Tables of points: text with separators, and spreadsheets."""

    name = "table"
    is_asked = True

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        return delimited.inspect(path, declared, name, frame_crs)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        points = delimited.read(path, declared, name, crs)
        return lattice.surface_of(points, name) if declared.grid else points

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        facts, points = delimited.look(path, declared, name, crs)
        return Looked(lattice.surface_of(points, name) if declared.grid else points, {}, facts.findings)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        return extent_of_points(delimited.read(path, declared, name), name)


class ArchiveFamily(Family):
    """Files packed into one."""

    name = "archive"
    is_packed = True
    holds_files = True

    def glance(self, path: Path, declared: Declared, name: str) -> int:
        if not archive.members(path, name):
            raise InputError(f"{name} holds no files.")
        return 0

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        raise _no_archive(name)

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        raise _no_archive(name)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        raise _no_archive(name)

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        raise _no_archive(name)


class FiguresFamily(Family):
    """Tables of figures that an operation gave, as `table.write` writes them."""

    name = "figures"

    def inspect(self, path: Path, declared: Declared, name: str, frame_crs: str, progress: Progress) -> Facts:
        held = table.read(path)
        return FiguresFacts(name, [one.name for one in held.columns], len(held))

    def read(self, path: Path, declared: Declared, name: str, crs: str) -> Held:
        return table.read(path)

    def look(self, path: Path, declared: Declared, name: str, crs: str, progress: Progress) -> Looked:
        held = table.read(path)
        return Looked(held, held.told, [])

    def extent(self, path: Path, declared: Declared, name: str) -> Extent:
        raise InputError(f"{name} is a table of figures, which lies nowhere.")


FAMILIES: dict[Name, Family] = {
    one.name: one
    for one in (
        RasterFamily(), TileFamily(), ImageFamily(), PictureFamily(), CloudFamily(), VectorFamily(), TableFamily(), ArchiveFamily(), FiguresFamily(),
    )
}  # fmt: skip


def _no_archive(name: str) -> InputError:
    return InputError(f"{name} is a zip of several files. Unpack it and name the file you mean.")


def _extent_of_grid(grid: Grid, name: str) -> Extent:
    width, height = grid.metres_per_cell()
    return Extent(name, grid.crs, grid.bounds, cell=(width * height) ** 0.5)


@contextmanager
def as_raster(path: Path, name: str) -> Iterator[Path]:
    """A raw height tile as a file that says what it is, in a folder that is deleted afterwards."""
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        made = Path(folder) / "tile.tif"
        height_tile.as_geotiff(path, name, made)
        yield made
