"""Point clouds: LAS 1.0 to 1.4 and LAZ through laspy, chunk by chunk in bounded memory."""

from __future__ import annotations

import copy
import struct
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import lazrs
import numpy as np
import numpy.typing as npt
from pyproj import CRS
from pyproj.exceptions import CRSError

from yama.terrain.cloud import Cloud, Gathered
from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.findings import Finding, Fix, refuse
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Bounds, crs_name, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.units import UNITS, ask_unit, said_by_crs, unit_of_metres

laspy = later("laspy")

_ANYWHERE = 1e300
CHUNK = 500_000
"""Points that are decoded at once."""

CLASSES = {0: "never classified", 1: "unclassified", 2: "ground", 3: "low vegetation", 4: "medium vegetation",
           5: "high vegetation", 6: "building", 7: "low noise", 8: "key point", 9: "water", 10: "rail",
           11: "road surface", 12: "overlap", 13: "wire guard", 14: "wire conductor", 15: "transmission tower",
           16: "wire connector", 17: "bridge deck", 18: "high noise"}  # fmt: skip
"""Standard classes of the LAS 1.4 specification (ASPRS, 2019)."""

_BINS = 512
_SAMPLED = 200_000
_LOWEST_GROUND, _HIGHEST_GROUND = -11_100.0, 8_900.0  # metres
_NOISE = (7, 18)


@dataclass
class CloudFacts:
    """What a cloud holds, over all its points. spacing: mean distance of neighbours over the ground that has points."""

    name: str
    version: str
    compressed: bool
    point_format: int
    count: int
    crs: str
    unit: str = "m"
    bounds: Bounds = field(default_factory=lambda: Bounds(0, 0, 0, 0))
    lowest: float = 0.0
    highest: float = 0.0
    spacing: float = 0.0
    density: float = 0.0
    classes: dict[int, int] = field(default_factory=dict)
    returns: dict[int, int] = field(default_factory=dict)
    strips: int = 0
    findings: list[Finding] = field(default_factory=list)
    kind = "cloud"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {
            **vars(self),
            "kind": self.kind,
            "bounds": list(self.bounds),
            "findings": [finding.to_dict() for finding in self.findings],
        }


@contextmanager
def _reading(path: Path, name: str) -> Iterator[Any]:
    try:
        with laspy.open(path, laz_backend=laspy.LazBackend.LazrsParallel) as reader:
            yield reader
    except (laspy.errors.LaspyException, lazrs.LazrsError, ValueError, EOFError, OSError, MemoryError) as error:
        raise InputError(f"{name} cannot be read as LAS or LAZ; it is damaged or cut short. Get it again.") from error


def _check_header(path: Path, name: str) -> None:
    """Refuse a header whose numbers cannot be, before anything is read or allocated by them.

    Offsets are those of the LAS 1.4 specification (ASPRS, 2019), which versions before it share as far as they go.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(375)
    if len(head) < 227 or head[:4] != b"LASF":
        raise InputError(
            f"{name} cannot be read as LAS or LAZ: it ends within its header. It is cut short; get it again."
        )
    header_size, points_at, records = struct.unpack_from("<HII", head, 94)
    damaged = InputError(f"{name} claims {records} records of {points_at} bytes before its points, in a file of {size} bytes; its "
                         "header is damaged. Get it again.")  # fmt: skip
    if points_at > size or header_size > points_at or records * 54 > points_at - header_size:
        raise damaged
    if head[24:26] == b"\x01\x04" and len(head) >= 247:
        records_at, records = struct.unpack_from("<QI", head, 235)
        if records and (records_at > size or records * 60 > size - records_at):
            raise damaged
    scales = struct.unpack_from("<3d", head, 131)
    if not all(np.isfinite(scale) and 0 < abs(scale) < 1e6 for scale in scales):
        listed = ", ".join(f"{scale:g}" for scale in scales)
        raise InputError(f"{name} says that its coordinates are whole numbers times {listed}, which gives no places. Its "
                         "header is damaged; get it again.")  # fmt: skip
    if not np.isfinite(struct.unpack_from("<3d", head, 155)).all():
        raise InputError(
            f"{name} gives its coordinates an offset that is no number. Its header is damaged; get it again."
        )


_LINEAR_UNITS, _VERTICAL_CRS, _VERTICAL_UNITS = 3076, 4096, 4099
_CODED_UNITS = {9001: "m", 9002: "ft", 9003: "us-ft"}
"""Keys of the GeoTIFF standard (OGC 19-008r4) that a cloud brings, and EPSG's codes of units."""


def _units_of_keys(keys: dict[int, int]) -> tuple[str | None, str | None]:
    """What GeoTIFF keys say of the unit of heights, and of that of coordinates over the ground; None where nothing."""
    heights = _CODED_UNITS.get(keys.get(_VERTICAL_UNITS, 0))
    if heights is None and keys.get(_VERTICAL_CRS, 32767) not in (0, 32767):
        try:
            axis = CRS.from_epsg(keys[_VERTICAL_CRS]).axis_info
            heights = unit_of_metres(axis[0].unit_conversion_factor) if axis else None
        except CRSError:
            heights = None
    return heights, _CODED_UNITS.get(keys.get(_LINEAR_UNITS, 0))


def header(path: str | Path, declared: Declared = NOTHING, name: str = "") -> CloudFacts:
    """What the header says, at once. Raises InputError where it is no readable cloud or claims more than it can hold."""
    path = Path(path)
    name = name or path.name
    _check_header(path, name)
    with _reading(path, name) as reader:
        head = reader.header
        size = path.stat().st_size
        if (
            not head.are_points_compressed
            and head.offset_to_point_data + head.point_count * head.point_format.size > size
        ):
            held = max(size - head.offset_to_point_data, 0) // head.point_format.size
            raise InputError(f"{name} claims {head.point_count} points but holds {held} at most. It is cut short; "
                             "get it again.")  # fmt: skip
        if head.are_points_compressed and head.point_count > size * 60:
            raise InputError(f"{name} claims {head.point_count} points in {size / 1e6:.1f} MB; its header is damaged.")
        facts = CloudFacts(
            name=name,
            version=f"{head.version.major}.{head.version.minor}",
            compressed=bool(head.are_points_compressed),
            point_format=int(head.point_format.id),
            count=int(head.point_count),
            crs=declared.crs,
            bounds=Bounds(float(head.x_min), float(head.y_min), float(head.x_max), float(head.y_max)),
        )
        if declared.within:
            west, south, _, east, north, _ = declared.within
            facts.bounds = facts.bounds.intersection(Bounds(west, south, east, north)) or facts.bounds
        keys = {
            key.id: int(key.value_offset)
            for vlr in head.vlrs
            if isinstance(vlr, laspy.vlrs.known.GeoKeyDirectoryVlr)
            for key in vlr.geo_keys
        }
        try:
            said = head.parse_crs()
        except (CRSError, ValueError, KeyError, IndexError):
            said = None
    if not facts.crs and said:
        facts.crs = crs_name(next((part for part in said.sub_crs_list if not part.is_vertical), said))
    keyed_heights, keyed_ground = _units_of_keys(keys)
    heights, ground = said_by_crs(said) if said else (None, None)
    heights, ground = heights or keyed_heights, keyed_ground or ground
    facts.unit = declared.unit or heights or "m"
    if not declared.unit and heights is None and ground not in (None, "m"):
        facts.findings.append(ask_unit(name, str(ground)))
    if not facts.count:
        raise InputError(f"{name} holds no points.")
    if not facts.crs:
        facts.findings.append(Finding("no_crs", "stop", f"{name} does not say its CRS.",
                                      "Without one its place is unknown. Name it here.",
                                      answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
    elif parse_crs(facts.crs).is_geographic:
        box = facts.bounds
        if max(abs(box.west), abs(box.east)) > 361 or max(abs(box.south), abs(box.north)) > 91:
            facts.findings.append(
                Finding("not_degrees", "stop", f"{name} says degrees ({facts.crs}), but its points reach {max(map(abs, box)):.6g}.",
                        "Its coordinates are in another CRS. Name that here.", answers=[Fix("Use this CRS", {"crs": ""})])
            )  # fmt: skip
        facts.findings.append(Finding("degrees", "note", f"{name} is in degrees ({facts.crs}).",
                                      "It is put into the frame's CRS for every use."))  # fmt: skip
    return facts


@kernel
def _tally(x, y, z, classes, returns, sources, extent, class_counts, return_counts, strips, bins, west, south, size):
    for i in range(x.size):
        extent[0] = min(extent[0], x[i])
        extent[1] = min(extent[1], y[i])
        extent[2] = min(extent[2], z[i])
        extent[3] = max(extent[3], x[i])
        extent[4] = max(extent[4], y[i])
        extent[5] = max(extent[5], z[i])
        class_counts[classes[i]] += 1
        return_counts[returns[i]] += 1
        strips[sources[i]] = True
        col = int((x[i] - west) / size)
        row = int((y[i] - south) / size)
        if 0 <= row < bins.shape[0] and 0 <= col < bins.shape[1]:
            bins[row, col] = True


def chunks_of(cloud: Cloud) -> Iterator[Any]:
    """The points of a cloud, see `chunks`."""
    return chunks(cloud.path, cloud.name, cloud.within)


def chunks(path: str | Path, name: str = "", within: Sequence[float] | None = None) -> Iterator[Any]:
    """The points, CHUNK by CHUNK, as laspy gives them. within: lowest x, y and height and highest of them, of those that count.
    Raises InputError where the file ends too soon."""
    path = Path(path)
    name = name or path.name
    with _reading(path, name) as reader:
        left = int(reader.header.point_count)
        for chunk in reader.chunk_iterator(CHUNK):
            left -= len(chunk)
            if within is not None:
                axes = (np.asarray(chunk.x), np.asarray(chunk.y), np.asarray(chunk.z))
                inside = np.all([(axis >= within[i]) & (axis <= within[i + 3]) for i, axis in enumerate(axes)], axis=0)
                chunk = chunk if inside.all() else chunk[inside]
            yield chunk
        if left:
            raise InputError(f"{name} ends {left} points too soon. It is cut short; get it again.")


def inspect(
    path: str | Path, declared: Declared = NOTHING, name: str = "", progress: Progress = ignore_progress
) -> CloudFacts:
    """Read all points once: true extent, classes, returns, density. Raises InputError where it cannot be read."""
    facts = header(path, declared, name)
    width, height = facts.bounds.east - facts.bounds.west, facts.bounds.north - facts.bounds.south
    # squares of some twenty points each: finer ones would stand empty between the points
    across = min(max(int((facts.count / 20) ** 0.5), 1), _BINS)
    size = max(width, height, 1e-9) / across * (1 + 1e-9)
    bins = np.zeros((across, across), np.bool_)
    extent = np.array([np.inf] * 3 + [-np.inf] * 3)
    class_counts, return_counts = np.zeros(256, np.int64), np.zeros(256, np.int64)
    strips = np.zeros(65536, np.bool_)
    done = 0
    step = max(facts.count // _SAMPLED, 1)
    sample: list[npt.NDArray[np.float64]] = []
    for chunk in chunks(path, facts.name, declared.within):
        places = np.asarray(chunk.x), np.asarray(chunk.y), np.asarray(chunk.z)
        sample.append(np.column_stack([axis[-done % step :: step] for axis in places]))
        _tally(
            *places, np.asarray(chunk.classification),
            np.asarray(chunk.return_number), np.asarray(chunk.point_source_id), extent, class_counts, return_counts,
            strips, bins, facts.bounds.west, facts.bounds.south, size,
        )  # fmt: skip
        done += len(chunk)
        progress(min(done / facts.count, 1.0))
    if not done:
        raise InputError(f"No point of {facts.name} lies within the limits that were declared. Choose wider ones.")
    facts.count = done
    factor = UNITS[facts.unit]
    said = facts.bounds
    facts.bounds = Bounds(float(extent[0]), float(extent[1]), float(extent[3]), float(extent[4]))
    facts.lowest, facts.highest = float(extent[2]) * factor, float(extent[5]) * factor
    facts.classes = {int(i): int(class_counts[i]) for i in np.flatnonzero(class_counts)}
    facts.returns = {int(i): int(return_counts[i]) for i in np.flatnonzero(return_counts)}
    facts.strips = int(strips.sum())
    ground = float(bins.sum()) * size * size
    facts.density = facts.count / ground if ground else 0.0
    facts.spacing = facts.density**-0.5 if facts.density else 0.0
    _check(facts, said)
    _check_strays(facts, np.concatenate(sample), extent)
    return facts


def _check_strays(facts: CloudFacts, sample: npt.NDArray[np.float64], extent: npt.NDArray[np.float64]) -> None:
    """Points far from the rest, by a sample `(points, 3)` of them all and the true extent, low x, y, z then high."""
    limits = [-_ANYWHERE] * 3 + [_ANYWHERE] * 3
    told: list[tuple[str, str]] = []
    for axis, word in enumerate(("west or east", "south or north", "below or above")):
        low, high = np.quantile(sample[:, axis], (0.02, 0.98))
        # ground may rise over a tile; a mast stands some hundred metres over it at most
        room = max(high - low, 1e-9) * (1 if axis < 2 else 4) + (0 if axis < 2 else 300 / UNITS[facts.unit])
        ends = [
            float(extent[axis + side])
            for side, far in ((0, extent[axis] < low - room), (3, extent[axis + 3] > high + room))
            if far
        ]
        if not ends:
            continue
        inside = (sample[:, axis] >= low - room) & (sample[:, axis] <= high + room)
        share = 1 - float(inside.mean())
        count = f"about {share * facts.count:.0f}" if share else "a few"
        limits[axis], limits[axis + 3] = float(low - room), float(high + room)
        told.append((f"{count.capitalize()} points", f"lie far {word} of the rest, as far as "
                     f"{' and '.join(f'{end:.6g}' for end in ends)}, where most lie from {low:.6g} to {high:.6g}"))  # fmt: skip
    for count, where in told:
        facts.findings.append(
            Finding("strays", "caution", f"{count} of {facts.name} {where}.",
                    "They stretch the extent and count as ground or as noise.", Fix("Leave them out", {"within": limits}))
        )  # fmt: skip


def _check(facts: CloudFacts, said: Bounds) -> None:
    name, add = facts.name, facts.findings.append
    slack = 1e-3 * max(facts.bounds.east - facts.bounds.west, facts.bounds.north - facts.bounds.south, 1e-9) + 0.01
    if any(abs(a - b) > slack for a, b in zip(said, facts.bounds, strict=True)):
        add(Finding("extent", "note", f"The header of {name} names another extent than its points have.",
                    "The points' own extent is used."))  # fmt: skip
    noise = sum(facts.classes.get(code, 0) for code in _NOISE)
    if noise:
        add(Finding("noise", "note", f"{noise} points of {name} are classified as noise.",
                    "Leave classes 7 and 18 out when a surface is made of it."))  # fmt: skip
    if set(facts.classes) <= {0, 1}:
        add(Finding("unclassified", "caution", f"No point of {name} is classified.",
                    "Ground must be found before it can give a bare-earth surface."))  # fmt: skip
    elif 2 not in facts.classes:
        add(Finding("no_ground", "caution", f"{name} has no ground points (class 2).",
                    "It cannot give a bare-earth surface as it is."))  # fmt: skip
    if facts.highest > _HIGHEST_GROUND or facts.lowest < _LOWEST_GROUND:
        reached = facts.highest if facts.highest > _HIGHEST_GROUND else facts.lowest
        feet = facts.unit == "m" and facts.lowest > _LOWEST_GROUND and facts.highest * UNITS["ft"] < _HIGHEST_GROUND
        add(Finding("high", "caution", f"Heights in {name} reach {reached:.0f} m, which no ground does.",
                    "They are in another unit, or points are far too high or too low.",
                    Fix("Take as feet", {"unit": "ft"}) if feet else None))  # fmt: skip


def read(path: str | Path, declared: Declared = NOTHING, name: str = "") -> Cloud:
    """The cloud in a file. Raises InputError with the reason against its use."""
    facts = header(path, declared, name)
    refuse(facts.findings)
    within = tuple(declared.within) if declared.within else None
    return Cloud(Path(path), facts.crs, facts.unit, facts.count, facts.bounds, facts.name, within)


def write(
    cloud: Cloud,
    path: str | Path,
    keep: Callable[[Any], npt.NDArray[np.bool_]] | None = None,
    progress: Progress = ignore_progress,
    classes: Callable[[Any], npt.NDArray[np.uint8]] | None = None,
) -> int:
    """Write a cloud as LAS or LAZ, by the suffix of `path`, with every attribute as it is; returns the number of points.

    keep: given some points as laspy has them, says which are written; all where it is None. classes: gives them other
    classes than they have. Chunk by chunk.
    Raises InputError where nothing would be kept.
    """
    path = Path(path)
    if path.suffix.lower() not in (".las", ".laz"):
        raise InputError(f"Clouds are written as .las or .laz, not as {path.suffix or 'a bare name'}.")
    written = seen = 0
    with _reading(cloud.path, cloud.name) as reader:
        head = copy.deepcopy(reader.header)
        with replacing(path) as part:
            with laspy.open(
                part, "w", header=head, do_compress=path.suffix.lower() == ".laz",
                laz_backend=laspy.LazBackend.LazrsParallel,
            ) as writer:  # fmt: skip
                for chunk in chunks_of(cloud):
                    if classes is not None:
                        chunk.classification = classes(chunk)
                    kept = chunk if keep is None else chunk[keep(chunk)]
                    if len(kept):
                        writer.write_points(kept)
                    written += len(kept)
                    seen += len(chunk)
                    progress(seen / max(cloud.count, 1))
            if not written:
                raise InputError(f"No point of {cloud.name} is kept; nothing is written.")
    return written


_WRITTEN = 1_000_000  # points at once


def write_gathered(made: Gathered, path: Path, progress: Progress = ignore_progress) -> None:
    """Write points that an operation found as LAS 1.4 or LAZ, to a millimetre, with what else is known of each as extra
    attributes. The file is there when it is whole, or not at all. Raises InputError where there are none."""
    if path.suffix.lower() not in (".las", ".laz"):
        raise InputError(f"Clouds are written as .las or .laz, not as {path.suffix or 'a bare name'}.")
    if not len(made.z):
        raise InputError("There are no points to write.")
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.add_extra_dims([laspy.ExtraBytesParams(name=name, type=np.float32) for name in made.more])
    fine = 1e-8 if made.grid.is_geographic else 0.001
    header.scales = np.array([fine, fine, 0.001])
    header.offsets = np.array([np.floor(made.grid.west), np.floor(made.grid.north), 0.0])
    header.add_crs(parse_crs(made.crs))
    with (
        replacing(path) as part,
        laspy.open(part, "w", header=header, do_compress=path.suffix.lower() == ".laz", laz_backend=laspy.LazBackend.LazrsParallel)
        as writer,
    ):  # fmt: skip
        for begin in range(0, len(made.z), _WRITTEN):
            some = slice(begin, begin + _WRITTEN)
            points = laspy.ScaleAwarePointRecord.zeros(len(made.z[some]), header=header)
            points.x, points.y = made.grid.x_of(made.col[some]), made.grid.y_of(made.row[some])
            points.z = made.z[some]
            points.return_number[:] = points.number_of_returns[:] = 1
            for name, values in made.more.items():
                points[name] = values[some]
            writer.write_points(points)
            progress(min(begin + _WRITTEN, len(made.z)) / len(made.z))
