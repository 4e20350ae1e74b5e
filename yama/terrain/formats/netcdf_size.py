"""How long a NetCDF file must be, from its own header: libraries read what is missing of a classic one as zeros.

After the NetCDF Classic Format Specification (Unidata, versions 1, 2 and 5) and the HDF5 File Format Specification 3.0
(The HDF Group), of which only the superblock is read.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
"""Bytes of a value of each type."""
_MOST = 1_000_000  # of anything listed: what claims more is damaged


class _Reader:
    """Reads a classic header, whose counts and offsets are as wide as its version says."""

    def __init__(self, file: BinaryIO, version: int) -> None:
        self._file = file
        self._count = ">q" if version == 5 else ">i"
        self._offset = ">i" if version == 1 else ">q"

    def _number(self, form: str) -> int:
        return int(struct.unpack(form, self._file.read(struct.calcsize(form)))[0])

    def tag(self) -> int:
        return self._number(">i")

    def count(self) -> int:
        return self._number(self._count)

    def listed(self) -> int:
        """How many entries follow; the list's own tag is passed over."""
        self.tag()
        number = self.count()
        if not 0 <= number <= _MOST:
            raise ValueError("a list of that many")
        return number

    def offset(self) -> int:
        return self._number(self._offset)

    def skip(self, size: int) -> None:
        if size < 0:
            raise ValueError("a negative size")
        self._file.seek(size + -size % 4, 1)

    def name(self) -> None:
        self.skip(self.count())

    def attributes(self) -> None:
        for _ in range(self.listed()):
            self.name()
            kind = self.tag()
            self.skip(self.count() * _SIZES[kind])


def expected_size(path: Path) -> int | None:
    """Bytes that the file must have at least; None where its header does not say, or cannot be read."""
    with path.open("rb") as file:
        start = file.read(48)
        try:
            if start[:3] == b"CDF":
                file.seek(4)
                return _classic(_Reader(file, start[3]))
            return _superblock(start)
        except (struct.error, ValueError, KeyError, IndexError):
            return None


def _classic(reader: _Reader) -> int | None:
    records = reader.count()
    lengths = []
    for _ in range(reader.listed()):
        reader.name()
        lengths.append(reader.count())
    reader.attributes()
    fixed = 0
    rows: list[tuple[int, int]] = []  # where a variable of records begins, and bytes of one
    for _ in range(reader.listed()):
        reader.name()
        axes = [reader.count() for _ in range(reader.count())]
        reader.attributes()
        size = _SIZES[reader.tag()]
        reader.count()  # the size it claims, which is wrong for large variables
        begin = reader.offset()
        grows = bool(axes) and lengths[axes[0]] == 0
        for axis in axes[grows:]:
            size *= lengths[axis]
        if grows:
            rows.append((begin, size))
        else:
            fixed = max(fixed, begin + size)
    if not rows or records <= 0:
        return fixed
    step = rows[0][1] if len(rows) == 1 else sum(size + -size % 4 for _, size in rows)
    return max(fixed, *(begin + (records - 1) * step + size for begin, size in rows))


def _superblock(start: bytes) -> int | None:
    version = start[8]
    if version in (0, 1):
        wide = start[13]
        at = (24 if version == 0 else 28) + 2 * wide
    elif version in (2, 3):
        wide = start[9]
        at = 12 + 2 * wide
    else:
        return None
    return int.from_bytes(start[at : at + wide], "little") if wide in (4, 8) else None
