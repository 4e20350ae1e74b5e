"""A surface with patches: what they change is computed when it is looked at, each of them once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from weakref import WeakValueDictionary

import numpy as np
import shapely

from yama.terrain.cog import halve
from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Bounds, FloatArray, Window
from yama.terrain.kept import Kept
from yama.terrain.later import later
from yama.terrain.mend.ground import Ground
from yama.terrain.mend.patches import KeepOut, Patch, outlines
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.shelf import shared
from yama.terrain.surface import Heights, Over, Surface
from yama.terrain.surface.base import digest
from yama.terrain.units import in_unit

ndimage = later("scipy.ndimage")

_LARGEST = 16_000_000  # cells of the rectangle around a patch
_TOGETHER = 200_000_000  # cells of all of them
_ROUND = 4  # cells around a patch that its operator sees at least
_MOSTLY = 0.5  # share of a patch in a keep-out from which on that is told
_SMALL = 16_000  # cells of a patch that is sooner made again than looked up among what other processes made
_COARSE = 64  # rectangles of patches that are kept for wide views


@dataclass(frozen=True)
class _Made:
    """Cells of the rectangle around a patch, with it, or without it where it cannot be done; then also why. remark:
    what people should know of it."""

    cells: Heights
    problem: str = ""
    remark: str = ""


_recent: Kept[str, _Made] = Kept(1000)
"""Small patches as they were made last, by all that they depend on: of a stack that is changed all but one are the
same."""
_alive: WeakValueDictionary[str, _Made] = WeakValueDictionary()
"""Those that some surface holds: several that differ in a patch hold the others together."""


@dataclass(frozen=True)
class Did:
    """What a patch did: cells that it changed, cubic metres that it moved up and down, its largest change in metres."""

    cells: int
    raised: float
    lowered: float
    largest: float


@dataclass(frozen=True)
class Touched:
    """A patch that changes a cell. number: its place in the stack, from 0. before, after: heights, NaN where empty."""

    number: int
    before: float
    after: float


class MendedSurface(Over):
    """A surface with a stack of patches over it.

    Each patch is computed once, on all cells of the rectangle around it, whatever window asks for them: a window is the
    same alone and as a part of any other. It is computed from the cells below it, which earlier patches may have
    changed. Where one of these changes, only what overlaps it is computed anew.

    Parameters
    ----------
    surface : Surface
        Heights in metres, as all of a patch's settings are.
    patches : sequence of Patch
        From the first to the last.
    keep_outs : sequence of KeepOut
    other : Surface, optional
        What patches replace cells from.
    lenient : bool
        Whether patches that cannot be done change nothing, see `problems`, instead of raising.

    Raises
    ------
    InputError
        Where an outline is no area, or is larger than can be held at once.
    """

    def __init__(
        self,
        surface: Surface,
        patches: Sequence[Patch],
        keep_outs: Sequence[KeepOut] = (),
        other: Surface | None = None,
        lenient: bool = False,
    ) -> None:
        super().__init__(surface)
        self.patches = [one for one in patches if one.on]
        self.keep_outs = list(keep_outs)
        self.other = None if other is None else in_unit(fitted(other, surface.grid), surface.unit)
        self.lenient = lenient
        self._kept_out = outlines(self.keep_outs, self.grid)
        self._areas: list[shapely.Polygon] = []
        self._boxes: list[Window] = []
        self._wrong: dict[int, str] = {}
        for number, patch in enumerate(self.patches):
            area, box = shapely.Polygon(), Window(0, 0, 0, 0)
            try:
                area = patch.outline(self.grid)
                box = self._box(area, patch)
            except InputError as error:
                if not lenient:
                    raise
                self._wrong[number] = str(error)
            self._areas.append(area)
            self._boxes.append(box)
        self._edges = np.array([(b.row, b.row + b.rows, b.col, b.col + b.cols) for b in self._boxes]).reshape(-1, 4)
        self._under = [self._meeting(self._seen(k), k) for k in range(len(self.patches))]
        self._keys = self._told()
        # all of them stay: what lies on top of many others asks for each, again and again
        self._held: Kept[int, _Made] = Kept(len(self.patches) + 1)
        self._done: set[int] = set()
        self._coarse: Kept[tuple[int, int], Heights] = Kept(_COARSE)
        together = sum(box.rows * box.cols for box in self._boxes)
        if together > _TOGETHER:
            raise InputError(
                f"The rectangles around all patches hold {together / 1e6:.0f} million cells; {_TOGETHER / 1e6:.0f} can be held. "
                "Store the surface with some of them, and go on from there."
            )

    def settings(self) -> tuple[Any, ...]:
        told = [one.model_dump(exclude={"name", "note"}) for one in self.patches]
        kept = [one.model_dump(exclude={"name"}) for one in self.keep_outs]
        return (told, kept, self.other.fingerprint if self.other is not None else "", self.lenient)

    def _box(self, area: shapely.Polygon, patch: Patch) -> Window:
        box = self.grid.window_over(Bounds(*area.bounds), 1).clipped(self.grid.rows, self.grid.cols)
        if box.rows <= 0 or box.cols <= 0:
            raise InputError(
                f"The outline of {patch.name or 'a patch'} lies outside of the surface. Draw it on the surface."
            )
        if box.rows * box.cols > _LARGEST:
            raise InputError(
                f"The outline of {patch.name or 'a patch'} covers {box.rows * box.cols / 1e6:.0f} million cells; a patch may "
                f"cover {_LARGEST / 1e6:.0f}. Draw several."
            )
        return box

    def _told(self) -> list[str]:
        """For each patch all that its cells depend on: equal where nothing below it has changed."""
        keys: list[str] = []
        for number, patch in enumerate(self.patches):
            below = [keys[k] for k in self._under[number]]
            kept = [
                shapely.to_wkb(area)
                for area in self._kept_out
                if not patch.over_keep_outs and area.intersects(self._areas[number])
            ]
            other = self.other.fingerprint if self.other is not None and patch.operator.kind == "replace" else ""
            keys.append(
                digest(self.surface.fingerprint, patch.model_dump(exclude={"name", "note"}), below, kept, other)
            )
        return keys

    def _halo(self, patch: Patch) -> int:
        return _ROUND + int(np.ceil(patch.operator.reach / min(self.grid.metres_per_cell())))

    def _seen(self, number: int) -> Window:
        """What the operator of a patch looks at."""
        return self._boxes[number].grown(self._halo(self.patches[number]))

    def _meeting(self, window: Window, before: int) -> list[int]:
        """Which of the first patches have a rectangle that meets a window, in their order."""
        top, bottom, left, right = self._edges[:before].T
        meets = (top < window.row + window.rows) & (bottom > window.row)
        found: list[int] = np.flatnonzero(meets & (left < window.col + window.cols) & (right > window.col)).tolist()
        return found

    def _below(self, number: int, window: Window) -> Heights:
        """Cells as they are below a patch."""
        cells = self.surface.read(window)
        meeting = self._meeting(window, number)
        self._make_below(meeting)
        for k in meeting:
            _lay(cells, window, self._made(k), self._boxes[k])
        return cells

    def __getstate__(self) -> dict[str, Any]:
        return super().__getstate__() | {"_done": set()}

    def _make_below(self, numbers: list[int]) -> None:
        """Make patches and all that lie below them from the first to the last, so that none waits for a long chain of
        others."""
        todo: set[int] = set()
        waiting = [one for one in numbers if one not in self._done]
        while waiting:
            number = waiting.pop()
            if number not in todo:
                todo.add(number)
                waiting += [one for one in self._under[number] if one not in self._done]
        for number in sorted(todo):
            self._made(number)
            self._done.add(number)

    def _made(self, number: int) -> Heights:
        """Cells of the rectangle around a patch, with it."""
        return self._tried(number).cells

    def _tried(self, number: int) -> _Made:
        go_on()
        key = self._keys[number]
        small = self._boxes[number].rows * self._boxes[number].cols <= _SMALL

        def make() -> _Made:
            there = _alive.get(key)
            if there is not None:
                return there
            if small:
                there = _recent.get(key, lambda: self._make(number))
            else:
                there = shared(("patch", key), lambda: self._make(number))
            return _alive.setdefault(key, there)

        found = self._held.get(number, make)
        if found.problem and not self.lenient:
            raise InputError(found.problem)
        return found

    def problems(self) -> dict[int, str]:
        """Why patches change nothing, by their number among those that are on. All patches are computed."""
        self._make_below(list(range(len(self.patches))))
        tried = {
            number: self._tried(number).problem for number in range(len(self.patches)) if number not in self._wrong
        }
        return self._wrong | {number: problem for number, problem in tried.items() if problem}

    def remarks(self) -> dict[int, str]:
        """What people should know of patches, by their number among those that are on. All patches are computed."""
        self._make_below(list(range(len(self.patches))))
        told = {number: self._tried(number).remark for number in range(len(self.patches)) if number not in self._wrong}
        return {number: remark for number, remark in told.items() if remark}

    def kept_out(self) -> list[str]:
        """Which keep-outs leave most of a patch as it is, or are changed by one all the same, in words."""
        found: list[str] = []
        tree = shapely.STRtree(self._kept_out)
        for number, (patch, area) in enumerate(zip(self.patches, self._areas, strict=True)):
            for k in sorted(tree.query(area, predicate="intersects").tolist()) if not area.is_empty else []:
                share = self._kept_out[k].intersection(area).area / area.area
                name = patch.name or f"Patch {number + 1}"
                if patch.over_keep_outs:
                    found.append(f"{name} changes the keep-out {self.keep_outs[k].name} too, as it says.")
                elif share >= _MOSTLY:
                    found.append(
                        f"{100 * share:.0f} % of {name} lie in the keep-out {self.keep_outs[k].name}, where it changes "
                        "nothing."
                    )
        return found

    def _make(self, number: int) -> _Made:
        patch, area, box = self.patches[number], self._areas[number], self._boxes[number]
        seen = self._seen(number)
        if number in self._wrong:
            return _Made(np.zeros((0, 0), np.float32), self._wrong[number])
        cells = self._below(number, seen).astype(np.float64)
        below, problem, remark = cells, "", ""
        name = patch.name or f"Patch {number + 1}"
        within = inside([area], self.grid, seen) > 0
        on_grid = np.zeros(within.shape, np.bool_)
        on_grid[max(-seen.row, 0) : self.grid.rows - seen.row, max(-seen.col, 0) : self.grid.cols - seen.col] = True
        changes = within & on_grid
        if not patch.over_keep_outs and self._kept_out:
            changes &= inside(self._kept_out, self.grid, seen) == 0
        share = patch.strength * self._share(within, patch)
        part = self.grid.part(seen)
        other = self.other.read(seen).astype(np.float64) if self.other is not None else None
        for turn in range(patch.times):
            ground = Ground(cells, within & on_grid, part, area, patch.course, other)
            try:
                new = patch.operator.heights(ground)
                said = patch.operator.remark(ground) if not turn else ""
            except InputError as error:
                cells, problem, remark = below, f"{name}: {error}", ""
                break
            remark = f"{name}: {said}" if said else remark
            filled = np.isfinite(cells)
            mixed = np.where(filled, cells + share * (new - cells), new)
            take = changes & np.isfinite(new) & (filled | patch.operator.fills)
            cells = np.where(take, mixed, cells)
        found = cells.astype(np.float32)
        top, left = box.row - seen.row, box.col - seen.col
        # a copy, so that the ground around it is not held with it
        return _Made(found[top : top + box.rows, left : left + box.cols].copy(), problem, remark)

    def _share(self, within: Any, patch: Patch) -> FloatArray:
        """How much of the change counts in each cell: none at the border, all of it where the feather ends, without a
        crease at either."""
        if not patch.feather:
            return np.ones(within.shape)
        width, height = self.grid.metres_per_cell()
        away = ndimage.distance_transform_edt(within, sampling=(height, width)) - min(width, height) / 2
        t = np.clip(away / patch.feather, 0, 1)
        eased: FloatArray = t * t * (3 - 2 * t)
        return eased

    def read(self, window: Window, level: int = 0) -> Heights:
        cells = self.surface.read(window, level)
        scale = 2**level
        fine = Window(window.row * scale, window.col * scale, window.rows * scale, window.cols * scale)
        meeting = self._meeting(fine, len(self.patches))
        self._make_below(meeting)
        for number in meeting:
            made = self._coarser(number, level) if level else self._made(number)
            _lay(cells, window, made, _over(self._boxes[number], level))
        return cells

    def _coarser(self, number: int, level: int) -> Heights:
        """Cells of a coarser level over the rectangle around a patch, with all patches: means of the cells below."""

        def make() -> Heights:
            at, scale = _over(self._boxes[number], level), 2**level
            cells = self.read(Window(at.row * scale, at.col * scale, at.rows * scale, at.cols * scale))
            for _ in range(level):
                cells = halve(cells)
            return cells

        return self._coarse.get((number, level), make)

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self.surface.prepare(progress)
        for number in range(len(self.patches)):
            self._make_below([number])
            progress((number + 1) / len(self.patches))

    def touched(self, cell: Window) -> list[Touched]:
        """The patches that change a cell, from the first to the last. cell: a window of one."""
        found = []
        for number in self._meeting(cell, len(self.patches)):
            before, after = (float(self._below(k, cell)[0, 0]) for k in (number, number + 1))
            if before != after and not (np.isnan(before) and np.isnan(after)):
                found.append(Touched(number, before, after))
        return found

    def did(self, number: int) -> Did:
        """What a patch changed of what lay below it."""
        before = self._below(number, self._boxes[number]).astype(np.float64)
        after = self._made(number).astype(np.float64)
        change = after - before
        new = np.isfinite(after) & ~np.isfinite(before)
        moved = np.isfinite(change) & (change != 0)
        width, height = self.grid.metres_per_cell()
        area = width * height
        up, down = change[moved & (change > 0)].sum(), -change[moved & (change < 0)].sum()
        largest = float(np.abs(change[moved]).max()) if moved.any() else 0.0
        return Did(int((moved | new).sum()), float(up * area), float(down * area), largest)


def _lay(cells: Heights, window: Window, part: Heights, at: Window) -> None:
    """Put those cells of a part into a window's that both have."""
    top, left = max(at.row, window.row), max(at.col, window.col)
    bottom, right = min(at.row + at.rows, window.row + window.rows), min(at.col + at.cols, window.col + window.cols)
    cells[top - window.row : bottom - window.row, left - window.col : right - window.col] = part[
        top - at.row : bottom - at.row, left - at.col : right - at.col
    ]


def _over(box: Window, level: int) -> Window:
    """The cells of a level that a window of level 0 touches."""
    scale = 2**level
    row, col = box.row // scale, box.col // scale
    return Window(row, col, -(-(box.row + box.rows) // scale) - row, -(-(box.col + box.cols) // scale) - col)
