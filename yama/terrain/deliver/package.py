"""A package: one zip of files, with the checksum of each and a list that says what they are."""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yama.terrain.files import replacing
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import refused_by_disk

FORMAT = "yama-package/1"
_CHUNK = 4_000_000
_PACKED = (".tif", ".laz", ".xlsx", ".png", ".pdf", ".zip")  # gain nothing from being packed again
_TIME = (2000, 1, 1, 0, 0, 0)  # the same files make the same bytes


@dataclass
class Member:
    """A file of a package. content: where it lies, or its bytes. about: plain values for the list."""

    name: str
    content: Path | bytes
    about: dict[str, Any] = field(default_factory=dict)


def safe_name(name: str, suffix: str, taken: set[str]) -> str:
    """A file name for something people named: letters, digits, spaces, dots, commas, dashes and underscores; never a path, a
    hidden file or one that a table would take for a formula; with a number where it is taken. It is entered in `taken`."""
    plain = re.sub(r"[^\w ,.()-]+", "_", name, flags=re.UNICODE).strip(" .-_")[:80] or "unnamed"
    found, number = f"{plain}{suffix}", 2
    while found.lower() in taken:
        found, number = f"{plain} {number}{suffix}", number + 1
    taken.add(found.lower())
    return found


def pack(
    path: Path, members: Sequence[Member], about: dict[str, Any], progress: Progress = ignore_progress
) -> dict[str, Any]:
    """Write `path`, a zip of members, SHA256SUMS.txt and package.json, and return what the latter says: `format`, all of `about`,
    and of each member `name`, `bytes`, `sha256` and its own `about`.

    The file appears whole or not at all. Raises InputError where the disk is full, CancelledError when `progress` does.
    """
    sizes = [one.content.stat().st_size if isinstance(one.content, Path) else len(one.content) for one in members]
    total, done, listed = max(sum(sizes), 1), 0, []
    with refused_by_disk(path), replacing(path) as part, zipfile.ZipFile(part, "w", allowZip64=True) as archive:

        def add(name: str, content: Path | bytes) -> str:
            nonlocal done
            info = zipfile.ZipInfo(name, _TIME)
            info.compress_type = zipfile.ZIP_STORED if name.lower().endswith(_PACKED) else zipfile.ZIP_DEFLATED
            info.external_attr = 0o644 << 16
            digest = hashlib.sha256()
            with archive.open(info, "w", force_zip64=True) as target:
                if isinstance(content, bytes):
                    digest.update(content)
                    target.write(content)
                    return digest.hexdigest()
                with content.open("rb") as source:
                    while chunk := source.read(_CHUNK):
                        digest.update(chunk)
                        target.write(chunk)
                        done += len(chunk)
                        progress(min(done / total, 1.0))
            return digest.hexdigest()

        for member, size in zip(members, sizes, strict=True):
            listed.append(
                {"name": member.name, "bytes": size, "sha256": add(member.name, member.content), **member.about}
            )
        progress(1.0)
        said = {"format": FORMAT, **about, "members": listed}
        add("SHA256SUMS.txt", "".join(f"{one['sha256']}  {one['name']}\n" for one in listed).encode())
        add("package.json", json.dumps(said, indent=1, ensure_ascii=False, allow_nan=False).encode())
    return said
