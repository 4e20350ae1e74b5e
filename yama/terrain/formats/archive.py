"""Zip and gzip files: what is in them, unpacked within bounds and never outside the folder that was named."""

from __future__ import annotations

import gzip
import shutil
import zipfile
import zlib
from pathlib import Path, PurePosixPath
from typing import IO

from yama.terrain.errors import InputError

MAX_BYTES = 8_000_000_000
"""The most that a zip may unpack to."""

_MAX_MEMBERS = 2_000
_MAX_RATIO = 400  # text with long runs reaches 100; what exceeds this is made to fill a disk
_SMALL = 50_000_000  # below this a high ratio does no harm
_CHUNK = 1 << 20


def _open(path: Path, name: str) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError) as error:
        raise InputError(f"{name} is not a readable zip: it is damaged or cut short. Get it again.") from error


def is_gzip(path: Path) -> bool:
    """Whether a file is one file that was packed alone."""
    with path.open("rb") as file:
        return file.read(2) == b"\x1f\x8b"


def _inner_name(name: str) -> str:
    """What the file in a gzip is called: as the gzip is, without its last suffix."""
    bare = PurePosixPath(name.replace("\\", "/")).name
    return bare[:-3] if bare.lower().endswith(".gz") and len(bare) > 3 else bare


def unpacked_size(path: Path, name: str) -> int:
    """Bytes that a zip unpacks to. Raises InputError where that is far more than a file of its size can hold."""
    if is_gzip(path):
        return (
            path.stat().st_size * 8
        )  # its end says the size only up to 4 GB, and may lie; counted when it is unpacked
    with _open(path, name) as held:
        infos = held.infolist()
        total = sum(info.file_size for info in infos)
        if len(infos) > _MAX_MEMBERS:
            raise InputError(f"{name} holds {len(infos)} files; {_MAX_MEMBERS} are the most that are taken in at once.")
        if total > MAX_BYTES or (total > _SMALL and total > _MAX_RATIO * path.stat().st_size):
            raise InputError(
                f"{name} would unpack to {total / 1e6:.0f} MB from {path.stat().st_size / 1e6:.1f} MB. "
                "That is not taken in; unpack it and add the files you need."
            )
    return total


def members(path: str | Path, name: str = "") -> list[str]:
    """Names of the files in a zip, as they stand there. Raises InputError for a zip that is damaged, that would unpack
    to too much, or whose names lead out of a folder."""
    path = Path(path)
    name = name or path.name
    if is_gzip(path):
        return [_inner_name(name)]
    unpacked_size(path, name)
    with _open(path, name) as held:
        found = []
        for info in held.infolist():
            member = info.filename.replace("\\", "/")
            if info.is_dir() or member.startswith("__MACOSX/") or PurePosixPath(member).name.startswith("."):
                continue
            if member.startswith("/") or ".." in PurePosixPath(member).parts or (len(member) > 1 and member[1] == ":"):
                raise InputError(f"{name} holds a file named {info.filename!r}, which leads out of its folder. "
                                 "Nothing of it was taken in.")  # fmt: skip
            if info.flag_bits & 1:
                raise InputError(f"{name} is locked with a password. Unpack it and add the files.")
            found.append(info.filename)
    return found


def shapefiles(listed: list[str]) -> dict[str, list[str]]:
    """The members that are each shapefile of a zip, by the name of its .shp: those of the same name but for the suffix."""
    found: dict[str, list[str]] = {}
    for shape in listed:
        if shape.lower().endswith(".shp"):
            stem = shape[:-4].lower()
            found[shape] = [one for one in listed if one.lower().startswith(stem + ".") and "/" not in one[len(stem) :]]
    return found


def packed(made: list[Path], path: Path) -> None:
    """Put files into a zip at `path`, as they are."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as pack:
        for one in made:  # without its time, so that the same files make the same zip
            with one.open("rb") as source, pack.open(zipfile.ZipInfo(one.name), "w", force_zip64=True) as target:
                shutil.copyfileobj(source, target, _CHUNK)


def extract(path: str | Path, wanted: list[str], folder: Path, name: str = "") -> list[Path]:
    """Unpack some members of a zip into `folder`, without their folders; returns where each is.

    What a member unpacks to is counted as it is written: a header that lies is found out. Raises InputError.
    """
    path = Path(path)
    name = name or path.name
    if is_gzip(path):
        return [_gunzipped(path, folder / _inner_name(name), name)]
    known = set(members(path, name))
    made = []
    with _open(path, name) as held:
        for member in wanted:
            if member not in known:
                raise InputError(f"{name} holds no file {member!r}.")
            target = folder / PurePosixPath(member.replace("\\", "/")).name
            claimed = held.getinfo(member).file_size
            too_much = InputError(f"{name}: {member} unpacks to more than it claims. Get it again.")
            try:
                with held.open(member) as source:
                    _pour(source, target, claimed, too_much)
            except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError) as error:
                raise InputError(f"{name}: {member} cannot be unpacked; the zip is damaged. Get it again.") from error
            made.append(target)
    return made


def _gunzipped(path: Path, target: Path, name: str) -> Path:
    most = max(min(MAX_BYTES, _MAX_RATIO * path.stat().st_size), _SMALL)
    too_much = InputError(
        f"{name} unpacks to more than {most / 1e6:.0f} MB. That is not taken in; unpack it and add the file."
    )
    try:
        with gzip.open(path) as source:
            _pour(source, target, most, too_much)
    except (gzip.BadGzipFile, zlib.error, EOFError) as error:
        raise InputError(f"{name} cannot be unpacked: it is damaged or cut short. Get it again.") from error
    return target


def _pour(source: IO[bytes] | gzip.GzipFile, target: Path, most: int, too_much: InputError) -> None:
    """Write what is unpacked to a file, counting it."""
    written = 0
    with target.open("wb") as file:
        while chunk := source.read(_CHUNK):
            written += len(chunk)
            if written > most:
                raise too_much
            file.write(chunk)
