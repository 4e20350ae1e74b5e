"""Overview of a point cloud for the map: nested squares, each with a random share of its points.

The square of level 0 holds about NODE_POINTS of all points, its four quarters as many more each, and so on; the deepest
level holds what is left. Every point is in exactly one square, so a coarse view reads a few squares and a fine view only
adds those it looks at. Which level a point goes to is a hash of its number: the same file gives the same overview, in two
passes over the file and in bounded memory.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.terrain.cloud import Cloud
from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.formats import las
from yama.terrain.grid import parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.units import UNITS

NODE_POINTS = 16_000
MAX_LEVEL = 8

RECORD = np.dtype([("x", "<f4"), ("y", "<f4"), ("z", "<f4"), ("class", "u1"), ("returns", "u1"), ("intensity", "<u2")])
"""A point: metres from the overview's corner, height, class, return number and number of returns in one byte (low and
high four bits), intensity."""

_MAGIC = b"yama-overview/1\n"


@kernel
def _node_of(x, y, number, size, shares, levels):
    """Number of the square a point is in; levels follow each other, rows from the south."""
    mixed = np.uint64(number) + np.uint64(0x9E3779B97F4A7C15)
    mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    mixed = mixed ^ (mixed >> np.uint64(31))
    draw = np.float64(mixed >> np.uint64(11)) / 9007199254740992.0
    level = 0
    while level < levels - 1 and draw >= shares[level]:
        level += 1
    side = 1 << level
    col = min(max(int(x / size * side), 0), side - 1)
    row = min(max(int(y / size * side), 0), side - 1)
    return ((1 << (2 * level)) - 1) // 3 + row * side + col


@kernel
def _count(x, y, first, size, shares, levels, counts):
    for i in range(x.size):
        if x[i] == x[i] and y[i] == y[i]:
            counts[_node_of(x[i], y[i], first + i, size, shares, levels)] += 1


@kernel
def _place(x, y, first, size, shares, levels, cursor, slots):
    for i in range(x.size):
        slots[i] = -1
        if x[i] == x[i] and y[i] == y[i]:
            node = _node_of(x[i], y[i], first + i, size, shares, levels)
            slots[i] = cursor[node]
            cursor[node] += 1


def build(cloud: Cloud, crs: str, path: Path, progress: Progress = ignore_progress) -> None:
    """Write the overview of a cloud, with coordinates in `crs`, to `path`. Raises InputError for a damaged cloud."""
    turn = _turner(cloud.crs, crs)
    levels = 1
    while levels < MAX_LEVEL and NODE_POINTS * (4**levels - 1) / 3 < cloud.count:
        levels += 1
    wanted = np.minimum(np.cumsum(NODE_POINTS * 4.0 ** np.arange(levels)), cloud.count)
    shares = wanted / max(cloud.count, 1)
    extent = np.array([np.inf, np.inf, -np.inf, -np.inf])
    for x, y, _ in _turned(cloud, turn):
        known = np.isfinite(x) & np.isfinite(y)
        if known.any():
            extent[:2] = np.minimum(extent[:2], (x[known].min(), y[known].min()))
            extent[2:] = np.maximum(extent[2:], (x[known].max(), y[known].max()))
    if not np.isfinite(extent).all():
        raise InputError(f"No point of {cloud.name} can be expressed in {crs}. Check the CRS it was given.")
    west, south = np.floor(extent[:2])
    size = float(max(extent[2] - west, extent[3] - south, 1.0)) * (1 + 1e-9)
    counts = np.zeros((4**levels - 1) // 3, np.int64)
    done = 0
    for x, y, _ in _turned(cloud, turn):
        _count(x - west, y - south, done, size, shares, levels, counts)
        done += x.size
        progress(0.2 + 0.3 * done / cloud.count)
    _write(cloud, turn, path, counts, (float(west), float(south), size), shares, levels, progress)


def _turner(source: str, target: str) -> Callable[..., Any] | None:
    a, b = parse_crs(source), parse_crs(target)
    return None if a == b else Transformer.from_crs(a, b, always_xy=True).transform


def _turned(cloud: Cloud, turn: Callable[..., Any] | None) -> Any:
    for chunk in las.chunks_of(cloud):
        x, y = np.array(chunk.x), np.array(chunk.y)
        if turn is not None:
            x, y = turn(x, y)
            x, y = np.where(np.isfinite(x), x, np.nan), np.where(np.isfinite(y), y, np.nan)
        yield x, y, chunk


def _write(
    cloud: Cloud,
    turn: Callable[..., Any] | None,
    path: Path,
    counts: npt.NDArray[np.int64],
    corner: tuple[float, float, float],
    shares: npt.NDArray[np.float64],
    levels: int,
    progress: Progress,
) -> None:
    west, south, size = corner
    starts = np.concatenate([[0], np.cumsum(counts)])
    nodes = []
    for level in range(levels):
        side, base = 1 << level, ((1 << (2 * level)) - 1) // 3
        for node in np.flatnonzero(counts[base : base + side * side]):
            at = base + int(node)
            nodes.append([level, int(node) % side, int(node) // side, int(starts[at]), int(counts[at])])
    index = {"west": west, "south": south, "size": size, "levels": levels, "count": int(starts[-1]), "nodes": nodes}
    head = json.dumps(index).encode()
    offset = len(_MAGIC) + 8 + len(head)
    offset += -offset % RECORD.itemsize
    factor = UNITS[cloud.unit]
    cursor = starts[:-1].copy()
    with replacing(path) as part:
        with part.open("wb") as file:
            file.write(_MAGIC + len(head).to_bytes(8, "little") + head)
            file.truncate(offset + int(starts[-1]) * RECORD.itemsize)
        held = np.memmap(part, RECORD, "r+", offset, (int(starts[-1]),))
        done = 0
        for x, y, chunk in _turned(cloud, turn):
            slots = np.empty(x.size, np.int64)
            _place(x - west, y - south, done, size, shares, levels, cursor, slots)
            records = np.empty(x.size, RECORD)
            records["x"], records["y"] = x - west, y - south
            records["z"] = np.asarray(chunk.z) * factor
            records["class"] = np.asarray(chunk.classification)
            number, of = np.asarray(chunk.return_number), np.asarray(chunk.number_of_returns)
            records["returns"] = np.minimum(number, 15) | (np.minimum(of, 15) << 4)
            records["intensity"] = np.asarray(chunk.intensity)
            usable = slots >= 0
            held[slots[usable]] = records[usable]
            done += x.size
            progress(0.5 + 0.5 * done / cloud.count)
        held.flush()
        del held


def index_of(path: Path) -> tuple[dict[str, Any], int]:
    """Corner, size, levels, count and nodes (level, column, row, first point, number) of an overview, and where in the
    file its points begin."""
    with path.open("rb") as file:
        if file.read(len(_MAGIC)) != _MAGIC:
            raise InputError(f"{path.name} is not the overview of a point cloud.")
        length = int.from_bytes(file.read(8), "little")
        index: dict[str, Any] = json.loads(file.read(length))
    offset = len(_MAGIC) + 8 + length
    return index, offset + -offset % RECORD.itemsize


def node_bytes(path: Path, number: int) -> bytes:
    """The points of the square `nodes[number]`. Raises InputError where there is none."""
    index, offset = index_of(path)
    if not 0 <= number < len(index["nodes"]):
        raise InputError("The overview has no such part.")
    _, _, _, first, count = index["nodes"][number]
    with path.open("rb") as file:
        file.seek(offset + first * RECORD.itemsize)
        return file.read(count * RECORD.itemsize)
