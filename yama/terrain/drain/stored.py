"""Drainage that was worked out once and is looked at often: kept in files of plain arrays, which are read as they are
needed."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.catchments import Outlet, snapped
from yama.terrain.drain.directions import COLS, OUT, ROWS, Directions
from yama.terrain.drain.drainage import Drainage
from yama.terrain.drain.kinds import Hollow
from yama.terrain.drain.large import LargeDrainage
from yama.terrain.drain.streams import Channels
from yama.terrain.drain.working_off import BREACHED, FILLED, LEFT
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid

_LEAST_CELLS = 25  # through which ground drains at least for a cell to be held as a channel
_LEAST = 1000.0  # and the least square metres
_STEPS = 40
_HELD = ("cells", "down", "area", "heights", "lengths", "level")


@dataclass(frozen=True)
class StoredDrainage:
    """What `keep_drainage` kept.

    Parameters
    ----------
    grid : Grid
    to, counts : ndarray, shape (rows, cols)
        As in `Drainage`, mapped from files.
    channels : Channels
    facts : dict
        Plain JSON: hollows left, filled and breached, cubic metres moved, what became of lines that were burned in, and
        how many streams and metres of them there are by the square metres at which they begin.
    """

    grid: Grid
    to: Directions = field(repr=False)
    counts: npt.NDArray[np.int32] = field(repr=False)
    channels: Channels = field(repr=False)
    facts: dict[str, Any]

    @property
    def cell_area(self) -> float:
        """Square metres of a cell."""
        return float(np.prod(self.grid.metres_per_cell()))

    def outlet(self, x: float, y: float, radius: float, name: str = "") -> Outlet:
        """A place, moved to where most ground drains nearby; see `snapped`."""
        return snapped(self.counts, self.grid, x, y, radius, name)

    def covered(self, lines: Sequence[shapely.LineString]) -> list[shapely.LineString]:
        """The stretches of lines, in the grid's CRS, along which the surface has heights."""
        found: list[shapely.LineString] = []
        for line in lines:
            places = shapely.get_coordinates(
                shapely.segmentize(line, 2 * min(self.grid.cell_width, self.grid.cell_height))
            )
            rows = np.rint(self.grid.row_of(places[:, 1])).astype(np.int64)
            cols = np.rint(self.grid.col_of(places[:, 0])).astype(np.int64)
            there = (rows >= 0) & (cols >= 0) & (rows < self.grid.rows) & (cols < self.grid.cols)
            there[there] = self.counts[rows[there], cols[there]] > 0
            runs = np.split(np.arange(len(places)), np.flatnonzero(np.diff(there)) + 1)
            found.extend(shapely.LineString(places[run]) for run in runs if there[run[0]] and len(run) > 1)
        return found

    def way(self, x: float, y: float) -> tuple[FloatArray, bool]:
        """The way of water from a place down, `(places, 2)`, in the grid's CRS; and whether it leaves the surface.

        Raises
        ------
        InputError
            Where the place lies outside, or has no height.
        """
        row, col = int(np.rint(self.grid.row_of(y))), int(np.rint(self.grid.col_of(x)))
        if not (0 <= row < self.grid.rows and 0 <= col < self.grid.cols) or self.counts[row, col] == 0:
            raise InputError("There is no height at this place, so no water to follow.")
        rows, cols = [row], [col]
        while 0 <= (n := int(self.to[row, col])) < 8:
            row, col = row + int(ROWS[n]), col + int(COLS[n])
            rows.append(row)
            cols.append(col)
        places = np.column_stack([self.grid.x_of(np.array(cols)), self.grid.y_of(np.array(rows))])
        return places, bool(self.to[row, col] == OUT)


def least_channel(cell_area: float) -> float:
    """Square metres that must drain through a cell for it to be a channel, however streams begin. cell_area: square
    metres of a cell."""
    return max(_LEAST, _LEAST_CELLS * cell_area)


def keep_drainage(found: Drainage | LargeDrainage, folder: Path) -> None:
    """Write drainage to a folder, whole or not at all.

    Raises
    ------
    InputError
        Where so little ground drains together that there is no channel at all.
    """
    least = least_channel(found.cell_area)
    kept = found.channels(least)
    done = found.outcome()
    facts = {
        "grid": found.grid.to_dict(),
        "least": least,
        "most": float(kept.area.max()),
        "moved": done.moved,
        **{
            name: int((done.done[1:] == one).sum())
            for name, one in (("left", LEFT), ("filled", FILLED), ("breached", BREACHED))
        },
        "ground": found.ground(),
        "missed": found.missed,
        "burned": [vars(one) for one in found.burned],
        "curve": _curve(kept),
    }
    part = folder.with_name(f"{folder.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    np.save(part / "to.npy", found.to)
    np.save(part / "counts.npy", found.counts)
    for name in _HELD:
        np.save(part / f"{name}.npy", getattr(kept, name))
    (part / "facts.json").write_text(json.dumps(facts), encoding="utf-8")
    shutil.rmtree(folder, ignore_errors=True)
    part.rename(folder)


def _curve(kept: Channels) -> list[tuple[float, int, float]]:
    """Square metres at which streams begin, how many streams there are then, and their metres."""
    told = []
    for area in np.geomspace(kept.least, max(float(kept.area.max()), kept.least), _STEPS):
        found = kept.streams(float(min(area, kept.area.max())))
        told.append((float(area), int((found.magnitude == 1).sum()), float(found.length.sum())))
    return told


def open_drainage(folder: Path) -> StoredDrainage:
    """What was kept in a folder. Raises FileNotFoundError where nothing was."""
    facts = json.loads((folder / "facts.json").read_text(encoding="utf-8"))
    grid = Grid.from_dict(facts["grid"])
    # mapped so that nothing is written back; kernels take arrays that could be
    to, counts = (np.load(folder / f"{name}.npy", mmap_mode="c") for name in ("to", "counts"))
    held = {name: np.load(folder / f"{name}.npy") for name in _HELD}
    return StoredDrainage(grid, to, counts, Channels(grid, **held, least=facts["least"]), facts)


def keep_hollows(found: Sequence[Hollow], path: Path) -> None:
    """Write hollows to a file, whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.part")
    told = [{**vars(one), "shape": shapely.to_wkb(one.shape, hex=True)} for one in found]
    part.write_text(json.dumps(told), encoding="utf-8")
    part.replace(path)


def open_hollows(path: Path) -> list[Hollow]:
    """What was kept in a file. Raises FileNotFoundError where nothing was."""
    told = json.loads(path.read_text(encoding="utf-8"))
    return [Hollow(**{**one, "spill": tuple(one["spill"]), "shape": shapely.from_wkb(one["shape"])}) for one in told]
