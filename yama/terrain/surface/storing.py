"""Writing a surface into a file."""

from __future__ import annotations

import errno
import json
from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from yama.terrain import cog
from yama.terrain.cog import Encoding
from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.grid import Window, compound
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Surface
from yama.terrain.surface.statistics import Moments, Statistics, summed
from yama.terrain.surface.stored import CATEGORIES
from yama.terrain.surface.walking import prepared, walk


@dataclass
class _Encoded:
    """Makes blocks ready to be written."""

    encoding: Encoding

    def __call__(self, surface: Surface, window: Window) -> tuple[Moments, cog.Block]:
        values = surface.read_exact(window) if self.encoding.is_exact else surface.read(window)
        return Moments.of(values), cog.Block.of(values, self.encoding)


def store(
    surface: Surface,
    path: str | Path,
    progress: Progress = ignore_progress,
    executor: Executor | None = None,
    workers: int | None = None,
    tags: dict[str, str] | None = None,
    encoding: Encoding | None = None,
    given_away: bool = False,
) -> Statistics:
    """Write a surface as a cloud-optimised GeoTIFF, block by block in bounded memory.

    Parameters
    ----------
    surface : Surface
        It is prepared first.
    path : path
        Appears only when the file is whole; until then the file has another name beside it.
    progress : callable
        Called with the share done; what it raises ends the work and leaves nothing behind.
    executor : concurrent.futures.Executor, optional
        Where blocks are computed; see `cluster.pool` where not given.
    workers : int, optional
        How many blocks are computed at one time; see `cluster.cores` where not given.
    tags : dict, optional
        Further metadata of the file.
    encoding : Encoding, optional
        What cells are written as; `surface.encoding` where not given.
    given_away : bool
        The file says its vertical datum in its CRS too, for programs that look for it there.

    Returns
    -------
    Statistics
        Of all cells.

    Raises
    ------
    CancelledError
        Where `progress` does.
    InputError
        Where the disk is full.
    """
    path = Path(path)
    encoding = encoding or surface.encoding
    found: dict[tuple[int, int], Moments] = {}
    said = {
        "HEIGHT_UNIT": surface.unit, "VERTICAL_DATUM": surface.vertical_datum, "AREA_OR_POINT": "Area", **(tags or {})
    }  # fmt: skip
    if surface.categories:
        said[CATEGORIES] = json.dumps([asdict(one) for one in surface.categories])
    progress = prepared(surface, progress)

    def keep(window: Window, made: tuple[Moments, cog.Block]) -> None:
        found[window.row, window.col] = made[0]
        writer.add(window, made[1])

    crs = compound(surface.grid.crs, surface.vertical_datum, surface.unit) if given_away else None
    with refused_by_disk(path), replacing(path) as part, cog.Writer(part, surface.grid, encoding, said, crs) as writer:
        walk(surface, _Encoded(encoding), keep, lambda share: progress(0.95 * share), executor, workers)
        writer.finish()
        progress(1.0)
    return summed(found)


@contextmanager
def refused_by_disk(path: Path) -> Iterator[None]:
    """Say in a sentence that a disk is full where writing `path` finds it so."""
    try:
        yield
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise
        raise InputError(
            f"There is no room left on the disk for {path.name}; nothing of it was kept. Free some space and start it again."
        ) from error
