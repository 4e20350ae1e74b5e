"""Edits of features: what a technician changes by hand in lines and polygons, as data that can be done again.

Edits are a list in the order they were made, each naming features by number, so that the list and the untouched
features give the edited ones, every time. The features keep their numbers; new ones are numbered after the last.
Coordinates are in the features' own CRS, distances in metres. Heights (z) stay with their vertices.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field

from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value, parts_of
from yama.terrain.grid import FloatArray, metres_per_unit

_MOST = 20_000
Number = Annotated[int, Field(ge=0)]
Numbers = Annotated[list[Number], Field(min_length=1, max_length=_MOST)]


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class _Vertex(_Edit):
    """Names a vertex: feature, line or ring within it in the order they are written, position along that."""

    feature: Number
    part: Number = 0
    vertex: Number


class Remove(_Edit):
    """Take features away."""

    kind: Literal["remove"]
    features: Numbers


class MoveVertex(_Vertex):
    """Put a vertex elsewhere."""

    kind: Literal["move_vertex"]
    x: float
    y: float


class AddVertex(_Vertex):
    """Put a new vertex behind the one named; its height lies between those of its neighbours."""

    kind: Literal["add_vertex"]
    x: float
    y: float


class RemoveVertex(_Vertex):
    """Take a vertex away."""

    kind: Literal["remove_vertex"]


class Split(_Vertex):
    """Cut a line in two at a vertex; the second half becomes a feature of its own."""

    kind: Literal["split"]


class Join(_Edit):
    """Make longer lines of lines whose ends lie within `gap` metres, nearest ends first."""

    kind: Literal["join"]
    features: Numbers
    gap: float = Field(0.0, ge=0, le=100_000, json_schema_extra={"unit": "m"})


class Dissolve(_Edit):
    """Make one feature of several: borders between polygons vanish, lines that meet become one line."""

    kind: Literal["dissolve"]
    features: Annotated[list[Number], Field(min_length=2, max_length=_MOST)]


class Draw(_Edit):
    """Add a line or polygon."""

    kind: Literal["draw"]
    shape: Literal["line", "polygon"]
    places: Annotated[list[tuple[float, float]], Field(min_length=2, max_length=100_000)]


class SetValue(_Edit):
    """Give features another value in a column."""

    kind: Literal["set_value"]
    features: Numbers
    column: Annotated[str, Field(max_length=120)]
    value: str | float | None


Edit = Annotated[
    Remove | MoveVertex | AddVertex | RemoveVertex | Split | Join | Dissolve | Draw | SetValue,
    Field(discriminator="kind"),
]


def _several(count: int) -> str:
    return "1 feature" if count == 1 else f"{count} features"


def title_of(edit: Any) -> str:
    """An edit in a few words. Features are counted from 1, as tables show them."""
    match edit:
        case Remove():
            return f"Delete {_several(len(edit.features))}"
        case MoveVertex():
            return f"Move a vertex of no. {edit.feature + 1}"
        case AddVertex():
            return f"Add a vertex to no. {edit.feature + 1}"
        case RemoveVertex():
            return f"Delete a vertex of no. {edit.feature + 1}"
        case Split():
            return f"Split no. {edit.feature + 1}"
        case Join():
            return f"Join {len(edit.features)} lines over {edit.gap:g} m"
        case Dissolve():
            return f"Dissolve {_several(len(edit.features))} into one"
        case Draw():
            return f"Draw a {edit.shape}"
        case SetValue():
            return f"Set {edit.column} of {_several(len(edit.features))}"
    raise TypeError(f"{type(edit).__name__} is no edit")


@dataclass
class Edited:
    """Features under edit: geometry and attributes by number, in order of number.

    said: what a technician should know of the last edit.
    """

    crs: str
    columns: list[str]
    geometries: dict[int, Any]
    rows: dict[int, dict[str, Value]]
    next_number: int
    units: dict[str, str] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)

    @classmethod
    def of(cls, features: Features) -> Edited:
        """Untouched features, numbered from 0."""
        return cls(
            features.crs, list(features.attributes), dict(enumerate(features.geometries)),
            {i: features.row(i) for i in range(len(features))}, len(features), features.units,
        )  # fmt: skip

    def features(self) -> Features:
        """What there is now, in order of number."""
        numbers = sorted(self.geometries)
        return Features(
            self.crs,
            np.array([self.geometries[number] for number in numbers], dtype=object),
            {column: [self.rows[number].get(column) for number in numbers] for column in self.columns},
            self.units,
        )

    def apply(self, edits: Iterable[Any]) -> Edited:
        """Make edits, in their order. Raises InputError where one names what is not there or makes no sense."""
        for edit in edits:
            self.said = []
            _HOW[type(edit)](self, edit)
        return self

    def get(self, number: int) -> Any:
        """The geometry of a feature. Raises InputError where it is not there (any more)."""
        if number not in self.geometries:
            raise InputError(f"There is no feature no. {number + 1} (any more).")
        return self.geometries[number]

    def put(self, number: int, geometry: Any, row: dict[str, Value]) -> None:
        """Keep a feature under a number."""
        self.geometries[number], self.rows[number] = geometry, row
        self.next_number = max(self.next_number, number + 1)

    def drop(self, number: int) -> None:
        """Take a feature away."""
        self.get(number)
        del self.geometries[number], self.rows[number]

    def scale(self, x: float, y: float) -> tuple[float, float]:
        """Metres on the ground to a unit of x and of y, at a place."""
        return metres_per_unit(self.crs, x, y)


# -- parts of a geometry ---------------------------------------------------------------------------------------


def _rebuilt(geometry: Any, parts: list[FloatArray]) -> Any:
    """A geometry of the same build from its parts; takes them off the list's front."""
    if geometry.geom_type == "Polygon":
        shell = parts.pop(0)
        return shapely.Polygon(shell, [parts.pop(0) for _ in geometry.interiors])
    if hasattr(geometry, "geoms"):
        return type(geometry)([_rebuilt(each, parts) for each in geometry.geoms])
    return type(geometry)(parts.pop(0))


def _is_ring(geometry: Any) -> bool:
    return "Polygon" in geometry.geom_type


def _with_part(edited: Edited, edit: _Vertex, change: Callable[[FloatArray, int], FloatArray]) -> None:
    """Change the vertices of one part of a feature."""
    geometry = edited.get(edit.feature)
    parts = parts_of(geometry)
    _vertex(edit, parts)
    parts[edit.part] = change(parts[edit.part], edit.vertex)
    edited.geometries[edit.feature] = _rebuilt(geometry, parts)


def _vertex(edit: _Vertex, parts: list[FloatArray]) -> None:
    if edit.part >= len(parts):
        raise InputError(f"Feature no. {edit.feature + 1} has {len(parts)} lines or rings, not {edit.part + 1}.")
    if edit.vertex >= len(parts[edit.part]):
        raise InputError(f"That line of feature no. {edit.feature + 1} has {len(parts[edit.part])} vertices, "
                         f"not {edit.vertex + 1}.")  # fmt: skip


# -- the edits ---------------------------------------------------------------------------------------------------


def _remove(edited: Edited, edit: Remove) -> None:
    for number in dict.fromkeys(edit.features):
        edited.drop(number)


def _move(edited: Edited, edit: MoveVertex) -> None:
    ring = _is_ring(edited.get(edit.feature))

    def change(part: FloatArray, vertex: int) -> FloatArray:
        part[vertex, :2] = edit.x, edit.y
        if ring and vertex in (0, len(part) - 1):  # a ring begins where it ends
            part[0], part[-1] = part[vertex].copy(), part[vertex].copy()
        return part

    _with_part(edited, edit, change)


def _add(edited: Edited, edit: AddVertex) -> None:
    def change(part: FloatArray, vertex: int) -> FloatArray:
        if vertex + 1 >= len(part):
            raise InputError("A new vertex goes between two others; behind the last there is nothing.")
        made = (part[vertex] + part[vertex + 1]) / 2
        made[:2] = edit.x, edit.y
        if part.shape[1] > 2:
            before, after = (np.hypot(*(part[i, :2] - made[:2])) for i in (vertex, vertex + 1))
            share = before / (before + after) if before + after else 0.5
            made[2] = part[vertex, 2] + share * (part[vertex + 1, 2] - part[vertex, 2])
        return np.insert(part, vertex + 1, made, axis=0)

    _with_part(edited, edit, change)


def _remove_vertex(edited: Edited, edit: RemoveVertex) -> None:
    geometry = edited.get(edit.feature)
    ring = _is_ring(geometry)

    def change(part: FloatArray, vertex: int) -> FloatArray:
        if len(part) <= (4 if ring else 2):
            raise InputError(f"A {'polygon needs three' if ring else 'line needs two'} vertices. "
                             "Delete the feature instead.")  # fmt: skip
        if ring and vertex in (0, len(part) - 1):
            return np.vstack([part[1:-1], part[1:2]])
        return np.delete(part, vertex, axis=0)

    _with_part(edited, edit, change)


def _split(edited: Edited, edit: Split) -> None:
    geometry = edited.get(edit.feature)
    if shapely.get_dimensions(geometry) != 1:
        raise InputError("Only lines can be split.")
    parts = parts_of(geometry)
    _vertex(edit, parts)
    line = parts[edit.part]
    if edit.vertex in (0, len(line) - 1):
        raise InputError("A line is split at a vertex between its ends.")
    edited.geometries[edit.feature] = _lines([*parts[: edit.part], line[: edit.vertex + 1], *parts[edit.part + 1 :]])
    edited.put(edited.next_number, shapely.LineString(line[edit.vertex :]), dict(edited.rows[edit.feature]))


def _lines(parts: Sequence[FloatArray]) -> Any:
    return shapely.LineString(parts[0]) if len(parts) == 1 else shapely.MultiLineString(list(parts))


def _join(edited: Edited, edit: Join) -> None:
    numbers = list(dict.fromkeys(edit.features))
    lines: list[tuple[int, FloatArray]] = []
    for number in numbers:
        geometry = edited.get(number)
        if shapely.get_dimensions(geometry) != 1:
            raise InputError(f"Feature no. {number + 1} is no line; only lines are joined.")
        lines += [(number, part) for part in parts_of(geometry)]
    chains, gaps = chained([part for _, part in lines], edit.gap, edited.scale)
    if not gaps:
        least = nearest_ends([part for _, part in lines], edited.scale)
        told = f" The nearest two are {least:.1f} m apart." if np.isfinite(least) else ""
        raise InputError(f"No two ends of these lines lie within {edit.gap:g} m.{told} Allow a wider gap.")
    groups = _groups(numbers, [[lines[i][0] for i, _ in chain] for chain in chains])
    for members in groups.values():
        if len(members) == 1 and all(len(chain) == 1 for chain in chains if lines[chain[0][0]][0] in members):
            continue
        mine = [chain for chain in chains if lines[chain[0][0]][0] in members]
        longest = max(members, key=lambda number: edited.geometries[number].length)
        made = _lines([_laid(chain, [part for _, part in lines]) for chain in mine])
        row = edited.rows[longest]
        for number in members:
            edited.drop(number)
        edited.put(longest, made, row)
    widest = max(gaps)
    edited.said.append(
        f"{len(gaps)} gaps were closed, the widest of {widest:.1f} m." if len(gaps) > 1
        else f"A gap of {widest:.1f} m was closed."
    )  # fmt: skip
    if len(groups) > 1:
        edited.said.append(f"{len(groups)} lines remain: no ends of theirs lie within {edit.gap:g} m of each other.")


def _groups(numbers: Sequence[int], together: Iterable[Sequence[int]]) -> dict[int, list[int]]:
    """Features that share a chain, by the first of them."""
    lead = {number: number for number in numbers}

    def first(number: int) -> int:
        while lead[number] != number:
            number = lead[number]
        return number

    for members in together:
        for number in members[1:]:
            lead[first(number)] = first(members[0])
    groups: dict[int, list[int]] = defaultdict(list)
    for number in numbers:
        groups[first(number)].append(number)
    return groups


Chain = list[tuple[int, bool]]
"""Lines in the order they follow each other; true where one is walked from its last vertex to its first."""


def chained(
    lines: Sequence[FloatArray], gap: float, scale: Callable[[float, float], tuple[float, float]]
) -> tuple[list[Chain], list[float]]:
    """Chains of lines whose ends lie within `gap` metres, nearest ends first, and how wide each gap was that was closed.

    An end takes part in one joint, so at a fork the nearest two continue as one line. A line is not closed upon itself.
    """
    ends = np.array([line[at, :2] for line in lines for at in (0, -1)])
    metres = ends * np.array(scale(*(float(value) for value in ends.mean(axis=0))))
    pairs = shapely.STRtree(shapely.points(metres)).query(shapely.points(metres), "dwithin", max(gap, 1e-6))
    apart = np.hypot(*(metres[pairs[0]] - metres[pairs[1]]).T)
    order = np.lexsort((pairs[1], pairs[0], apart))
    lead = list(range(len(lines)))

    def first(line: int) -> int:
        while lead[line] != line:
            line = lead[line]
        return line

    mate: dict[int, int] = {}
    gaps: list[float] = []
    for i in order:
        one, other = int(pairs[0, i]), int(pairs[1, i])
        if one >= other or one in mate or other in mate or first(one // 2) == first(other // 2):
            continue
        mate[one], mate[other] = other, one
        lead[first(other // 2)] = first(one // 2)
        gaps.append(float(apart[i]))
    chains: list[Chain] = []
    seen: set[int] = set()
    lengths = [float(np.hypot(*np.diff(line[:, :2], axis=0).T).sum()) for line in lines]
    for start in sorted(range(2 * len(lines)), key=lambda end: end // 2):
        if start in mate or start // 2 in seen:
            continue
        chain: Chain = []
        end = start
        while True:
            chain.append((end // 2, end % 2 == 1))
            seen.add(end // 2)
            if end ^ 1 not in mate:
                break
            end = mate[end ^ 1]
        # the longest member says which way the whole runs
        if max(chain, key=lambda link: lengths[link[0]])[1]:
            chain = [(line, not turned) for line, turned in reversed(chain)]
        chains.append(chain)
    return chains, gaps


def nearest_ends(lines: Sequence[FloatArray], scale: Callable[[float, float], tuple[float, float]]) -> float:
    """Metres between the two nearest ends of different lines; infinite where there is one line only."""
    ends = np.array([line[at, :2] for line in lines for at in (0, -1)])
    metres = ends * np.array(scale(*(float(value) for value in ends.mean(axis=0))))
    far, span = 1.0, float(np.ptp(metres, axis=0).sum())
    # the two ends of a line may lie nearer to each other than to any other line: the ring grows until another line is in it
    while len(lines) > 1 and far <= 4 * max(span, 1.0):
        pairs = shapely.STRtree(shapely.points(metres)).query(shapely.points(metres), "dwithin", far)
        pairs = pairs[:, pairs[0] // 2 != pairs[1] // 2]
        if pairs.size:
            return float(np.hypot(*(metres[pairs[0]] - metres[pairs[1]]).T).min())
        far *= 4
    return float("inf")


def _laid(chain: Chain, lines: Sequence[FloatArray]) -> FloatArray:
    """The vertices of a chain, one after the other; a shared end stands once."""
    flat = any(lines[line].shape[1] == 2 for line, _ in chain)
    made: list[FloatArray] = []
    for line, turned in chain:
        part = lines[line][::-1] if turned else lines[line]
        part = part[:, :2] if flat else part
        if made and np.array_equal(made[-1][-1, :2], part[0, :2]):
            part = part[1:]
        made.append(part)
    return np.vstack(made)


def _dissolve(edited: Edited, edit: Dissolve) -> None:
    numbers = list(dict.fromkeys(edit.features))
    geometries = [edited.get(number) for number in numbers]
    dimensions = {int(shapely.get_dimensions(geometry)) for geometry in geometries}
    if len(dimensions) > 1:
        raise InputError("Lines, polygons and points cannot become one feature. Choose features of one kind.")
    if dimensions == {2}:
        made = shapely.union_all(shapely.make_valid(geometries, method="structure", keep_collapsed=False))
    elif dimensions == {1}:
        parts = [part for geometry in geometries for part in parts_of(geometry)]
        flat = any(part.shape[1] == 2 for part in parts)
        made = shapely.line_merge(shapely.MultiLineString([part[:, :2] if flat else part for part in parts]))
    else:
        made = shapely.union_all(geometries)
    rows = [edited.rows[number] for number in numbers]
    row: dict[str, Value] = {}
    for column in edited.columns:
        held = {rows[i].get(column) for i in range(len(rows))}
        row[column] = held.pop() if len(held) == 1 else None
    for number in numbers:
        edited.drop(number)
    edited.put(numbers[0], made, row)
    lost = [
        column
        for column in edited.columns
        if row[column] is None and any(each.get(column) is not None for each in rows)
    ]
    if lost:
        edited.said.append(f"They differ in {', '.join(lost)}, which {'is' if len(lost) == 1 else 'are'} left empty.")
    if dimensions == {1} and made.geom_type == "MultiLineString":
        edited.said.append(f"The lines do not meet: the feature has {len(made.geoms)} parts.")
    if dimensions == {2} and made.geom_type == "MultiPolygon":
        edited.said.append(f"The polygons do not touch: the feature has {len(made.geoms)} parts.")


def _draw(edited: Edited, edit: Draw) -> None:
    places = np.array(edit.places)
    if edit.shape == "polygon":
        if len(np.unique(places, axis=0)) < 3:
            raise InputError("A polygon needs three corners.")
        made: Any = shapely.Polygon(places)
    else:
        if len(np.unique(places, axis=0)) < 2:
            raise InputError("A line needs two vertices.")
        made = shapely.LineString(places)
    edited.put(edited.next_number, made, dict.fromkeys(edited.columns))


def _set(edited: Edited, edit: SetValue) -> None:
    if edit.column not in edited.columns:
        raise InputError(f"There is no column {edit.column!r}; there are: {', '.join(edited.columns)}.")
    for number in edit.features:
        edited.get(number)
    kinds = {type(held) for row in edited.rows.values() if (held := row.get(edit.column)) is not None}
    value: Value = edit.value
    if kinds and kinds <= {int, float}:
        if isinstance(value, str):
            raise InputError(f"{edit.column} holds numbers; {value[:20]!r} is none.")
        if kinds == {int} and value is not None and float(value).is_integer():
            value = int(value)
    elif value is not None:
        value = str(value)
    for number in edit.features:
        edited.rows[number] = {**edited.rows[number], edit.column: value}


_HOW: dict[type, Callable[[Edited, Any], None]] = {
    Remove: _remove,
    MoveVertex: _move,
    AddVertex: _add,
    RemoveVertex: _remove_vertex,
    Split: _split,
    Join: _join,
    Dissolve: _dissolve,
    Draw: _draw,
    SetValue: _set,
}


# -- snapping ----------------------------------------------------------------------------------------------------


def snapped(
    edited: Edited, places: Sequence[tuple[float, float]], within: float, besides: int | None = None
) -> list[tuple[float, float]]:
    """Each place as the vertex of another feature nearest to it, within so many metres; else as the nearest spot on a line or
    border; else as it is. besides: a feature that does not count."""
    others = [geometry for number, geometry in edited.geometries.items() if number != besides]
    asked = np.asarray(places, np.float64).reshape(-1, 2)
    if not others or within <= 0 or not len(asked):
        return [(float(x), float(y)) for x, y in asked]
    middle = asked.mean(axis=0)
    scale = np.array(edited.scale(*(float(value) for value in middle)))
    around = shapely.box(*(asked.min(axis=0) - within / scale), *(asked.max(axis=0) + within / scale))
    parts = [part[:, :2] for i in shapely.STRtree(others).query(around) for part in parts_of(others[i])]
    metres = (asked - middle) * scale
    result, left = asked.copy(), np.ones(len(asked), np.bool_)
    if parts:
        corners = np.vstack(parts)
        tree = shapely.STRtree(shapely.points((corners - middle) * scale))
        at, to = tree.query_nearest(shapely.points(metres), max_distance=within, all_matches=False)
        result[at], left[at] = corners[to], False
    # sides one by one, so that a long line is not looked through for each place
    sides = [np.stack([part[:-1], part[1:]], 1) for part in parts if len(part) > 1]
    if sides and left.any():
        ends = (np.concatenate(sides) - middle) * scale
        open_ones = np.flatnonzero(left)
        tree = shapely.STRtree(shapely.linestrings(ends))
        at, to = tree.query_nearest(shapely.points(metres[open_ones]), max_distance=within, all_matches=False)
        start, step = ends[to, 0], ends[to, 1] - ends[to, 0]
        length = (step**2).sum(1)
        share = ((metres[open_ones[at]] - start) * step).sum(1) / np.where(length > 0, length, 1.0)
        result[open_ones[at]] = (start + np.clip(share, 0.0, 1.0)[:, None] * step) / scale + middle
    return [(float(x), float(y)) for x, y in result]
