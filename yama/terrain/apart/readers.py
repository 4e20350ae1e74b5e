"""What is done with files from outside, each in a child: a glance, a table's first rows, an extent, a zip, and taking in.

What is kept of a file is written into a folder, in formats of our own, and moved into place by the caller when all of it
is whole.
"""

from __future__ import annotations

import glob
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from yama.terrain import formats, kinds
from yama.terrain.apart import Effort, call
from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.formats import archive, beside, delimited, text_grid, vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.frame import Extent
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import store

_DOTS = 4000


@dataclass(frozen=True)
class Glance:
    """What can be told of a file at once. is_asked: it is shown as a table first. holds_files: it is several in one. lacks_crs: that it cannot be placed without being told its CRS. cells: that it
    claims to have, or points. unpacked: bytes that it unpacks to, its size where it is not packed."""

    family: formats.Name
    is_asked: bool
    holds_files: bool
    lacks_crs: bool
    cells: int
    unpacked: int

    @property
    def effort(self) -> Effort:
        """What taking the file in may take."""
        return Effort.of(self.unpacked, self.cells)


@dataclass(frozen=True)
class Member:
    """A file of a zip, unpacked to `path` and declared by what lay beside it."""

    name: str
    path: Path
    declared: Declared


# -- asked by the service ----------------------------------------------------------------------------------


def glance(path: Path, declared: Declared = NOTHING, name: str = "") -> Glance:
    """What a file is, and whether it can be used at all. Raises InputError."""
    return _ask(_glance, path, name, (declared,), Effort())  # type: ignore[no-any-return]


def table(path: Path, declared: Declared, name: str, frame_crs: str) -> tuple[delimited.TableFacts, list[Any]]:
    """A table as it would be read, and a sample of its places as x, y in the frame's CRS. Raises InputError."""
    effort = Effort.of(_unpacked_bound(path))
    return _ask(_table, path, name, (declared, frame_crs), effort)  # type: ignore[no-any-return]


def extent(path: Path, name: str = "", declared: Declared = NOTHING) -> Extent:
    """Where a file lies and how fine it is. Raises InputError."""
    return _ask(_extent, path, name, (declared,), Effort.of(_unpacked_bound(path)))  # type: ignore[no-any-return]


def inspect(path: Path, declared: Declared, name: str, frame_crs: str) -> formats.Facts:
    """What a file is and what is wrong with it, all of it read; see `formats.inspect`. Raises InputError."""
    seen = glance(path, declared, name)
    return _ask(_inspect, path, name, (declared, frame_crs), seen.effort)  # type: ignore[no-any-return]


def placed_in(path: Path, declared: Declared, crs: str) -> tuple[Declared, Finding | None]:
    """What is declared about a file when somebody names a CRS for it, and by the files beside it; see `formats.placed_in`. Raises
    InputError."""
    near = beside.companions(path.name, [one.name for one in path.parent.glob(f"{glob.escape(path.stem)}*")])
    files = {kind: path.parent / one for kind, one in near.items()}
    if not files and (not crs or declared.crs):
        return declared, None
    effort = Effort.of(_unpacked_bound(path))
    return _ask(  # type: ignore[no-any-return]
        _placed_in, path, path.name, (declared, crs, files), effort, also=list(files.values())
    )


def unpack(path: Path, name: str, folder: Path, progress: Progress = ignore_progress) -> tuple[list[Member], list[str]]:
    """Unpack a zip into `folder`: its files that can be taken in, and a sentence for each that cannot."""
    effort = Effort.of(_unpacked_bound(path))
    found: tuple[list[Member], list[str]] = _ask(_unpack, path, name, (folder,), effort, folder, progress)
    inside = folder.resolve()
    if any(member.path.is_symlink() or member.path.resolve().parent != inside for member in found[0]):
        raise InputError(f"{name} could not be unpacked safely. Unpack it and add the files.")
    return found


def take(
    path: Path, declared: Declared, name: str, crs: str, frame_crs: str, folder: Path,
    progress: Progress = ignore_progress,
) -> kinds.Kept:  # fmt: skip
    """Read all of a file into `folder`. crs: of files that do not say theirs; frame_crs: of the overview of a cloud.

    Raises InputError with the reason against its use.
    """
    seen = glance(path, declared, name)
    found: kinds.Kept = _ask(_take, path, name, (declared, crs, frame_crs, folder), seen.effort, folder, progress)
    return found


def _ask(
    work: Any, path: Path, name: str, args: tuple[Any, ...], effort: Effort, folder: Path | None = None,
    progress: Progress = ignore_progress, also: Sequence[Path] = (),
) -> Any:  # fmt: skip
    name = name or path.name
    with tempfile.TemporaryDirectory(prefix="yama-") as scratch:
        return call(
            work, path, name, *args, effort=effort, about=name, reads=[path, *also], folder=folder or Path(scratch),
            progress=progress,
        )  # fmt: skip


def _unpacked_bound(path: Path) -> int:
    """Bytes that a file has to be read for, before anything is known of it. Of a zip more than it holds is no excuse."""
    with path.open("rb") as file:
        packed = file.read(2) in (b"PK", b"\x1f\x8b")
    return path.stat().st_size * (20 if packed else 1)


# -- done in the child -------------------------------------------------------------------------------------


def _glance(path: Path, name: str, declared: Declared, progress: Progress) -> Glance:
    family = formats.family(path, name, declared)
    if family.is_asked:
        return Glance(family.name, True, False, False, 0, _unpacked(path, name))
    cells = formats.glance(path, declared, name)
    lacks = False
    if declared.crs:
        try:
            formats.glance(path, NOTHING, name)
        except TerrainError:
            lacks = True
    return Glance(
        family.name,
        False,
        family.holds_files,
        lacks,
        cells,
        _unpacked(path, name) if family.is_packed else path.stat().st_size,
    )


def _unpacked(path: Path, name: str) -> int:
    with path.open("rb") as file:
        if file.read(4) != b"PK\x03\x04":
            return path.stat().st_size
    return archive.unpacked_size(path, name)


def _table(
    path: Path, name: str, declared: Declared, frame_crs: str, progress: Progress
) -> tuple[delimited.TableFacts, list[tuple[float, float]]]:
    facts, points = delimited.look_at(path, declared, name, frame_crs)
    if points is None or not len(points) or not facts.crs:
        return facts, []
    few = points.kept(np.arange(len(points)) % max(len(points) // _DOTS, 1) == 0).in_crs(frame_crs)
    seen = np.isfinite(few.x) & np.isfinite(few.y)
    return facts, [(round(float(x), 2), round(float(y), 2)) for x, y in zip(few.x[seen], few.y[seen], strict=True)]


def _extent(path: Path, name: str, declared: Declared, progress: Progress) -> Extent:
    return formats.extent(path, name, declared)


def _placed_in(
    path: Path, name: str, declared: Declared, crs: str, files: dict[str, Path], progress: Progress
) -> tuple[Declared, Finding | None]:
    return formats.placed_in(path, declared, crs, files)


def _inspect(path: Path, name: str, declared: Declared, frame_crs: str, progress: Progress) -> formats.Facts:
    return formats.inspect(path, declared, name, frame_crs, progress)


def _unpack(path: Path, name: str, folder: Path, progress: Progress) -> tuple[list[Member], list[str]]:
    found: list[Member] = []
    left: list[str] = []
    members = archive.members(path, name)
    shapes = archive.shapefiles(members)
    near = {one: others for one in members if (others := beside.companions(one, members))}
    # what is part of another file is no file of its own
    parts = {part for shape, those in shapes.items() for part in those if part != shape}
    parts |= {part for others in near.values() for part in others.values()}
    for number, member in enumerate(members):
        progress(number / len(members))
        if member in parts:
            continue
        made, declared = folder / str(number), Declared()
        try:
            if member in shapes:
                unpacked = archive.extract(path, shapes[member], folder, name)
                archive.packed(unpacked, made)
                for part in unpacked:
                    part.unlink()
            else:
                archive.extract(path, [member], folder, name)[0].rename(made)
            if member in near:
                files = {kind: archive.extract(path, [other], folder, name)[0] for kind, other in near[member].items()}
                try:
                    declared = formats.with_beside(made, declared, member, files, near[member])
                finally:
                    for other in files.values():
                        other.unlink()
            if formats.family(made, member, declared).holds_files:
                raise InputError(f"{member} is a zip in a zip; unpack that and add it.")
            formats.glance(made, declared, member)
        except QuestionError:
            pass  # asked when it is taken in
        except TerrainError as error:
            left.append(str(error))
            made.unlink(missing_ok=True)
            continue
        found.append(Member(PurePosixPath(member.replace("\\", "/")).name, made, declared))
    return found, left


def _take(
    path: Path, name: str, declared: Declared, crs: str, frame_crs: str, folder: Path, progress: Progress
) -> kinds.Kept:
    family = formats.family(path, name, declared)
    looked = family.look(path, declared, name, crs, lambda share: progress(0.4 * share))
    kind = kinds.kind_of(looked.held)
    return kind.keep(looked.held, looked, folder, frame_crs, lambda share: progress(0.4 + 0.6 * share))


def warm() -> None:
    """Read a few small files, so that everything is loaded and compiled before a child is timed."""
    import laspy
    import rasterio
    import shapely
    from affine import Affine

    from yama.terrain.grid import Grid
    from yama.terrain.surface import ArraySurface

    crs = "EPSG:32741"
    with tempfile.TemporaryDirectory(prefix="yama-") as scratch:
        folder = Path(scratch)
        text = folder / "few.csv"
        text.write_text("x,y,z,code\n" + "".join(f"{i}.5,{i * i % 7},{i / 4},a\n" for i in range(40)))
        heights = np.arange(4096.0, dtype=np.float32).reshape(64, 64)
        heights[20:24, 20:24] = np.nan
        grid = Grid(crs, 0.0, 64.0, 1.0, 1.0, 64, 64)
        store(ArraySurface(heights, grid), folder / "few.tif")
        turned = Affine.rotation(10.0) * Affine.scale(1.0, -1.0)
        with rasterio.open(
            folder / "turned.tif",
            "w",
            driver="GTiff",
            width=64,
            height=64,
            count=1,
            dtype="float32",
            crs=crs,
            transform=turned,
        ) as dataset:
            dataset.write(heights, 1)
        cloud = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        cloud.x = cloud.y = cloud.z = np.array([2.0, 5.0, 9.0])
        cloud.write(str(folder / "few.las"))
        line = np.array([shapely.LineString([(0, 0), (3, 4)])], dtype=object)
        vector.write(Features(crs, line, {"kind": ["a"]}), folder / "few.gpkg")
        (folder / "few.dxf").write_text(
            "0\nSECTION\n2\nENTITIES\n0\nCIRCLE\n8\n0\n10\n0\n20\n0\n40\n9\n0\nENDSEC\n0\nEOF\n"
        )
        delimited.write(formats.read(text, frame_crs=crs), folder / "few.xlsx")  # type: ignore[arg-type]
        text_grid.write_ascii(ArraySurface(heights, grid), folder / "few.asc")
        for name in ("few.csv", "few.tif", "turned.tif", "few.asc", "few.las", "few.gpkg", "few.dxf", "few.xlsx"):
            declared = Declared(crs=crs) if name in ("few.asc", "few.las") else NOTHING
            made = folder / f"{name}.made"
            made.mkdir()
            _glance(folder / name, name, declared, ignore_progress)
            _take(folder / name, name, declared, crs, crs, made, ignore_progress)
