"""How one surface lies beside another piece by piece: tiles and strips may lie each in its own way."""

from __future__ import annotations

from dataclasses import dataclass

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window
from yama.terrain.judge.coregistration import Coregistration, NothingSharedError, coregistration, shared_ground
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Surface


@dataclass(frozen=True)
class Piece:
    """A rectangle of the ground and where the surface lies there. row, col: from the north-west, from 0. x, y: its
    middle in the grid's CRS. found: None where that cannot be told, with a reason."""

    row: int
    col: int
    x: float
    y: float
    found: Coregistration | None
    reason: str = ""


def pieces_of(grid: Grid, across: int) -> list[tuple[int, int, Grid]]:
    """A grid cut into about square pieces, `across` of them along its longer side."""
    side = -(-max(grid.rows, grid.cols) // across)
    down, right = -(-grid.rows // side), -(-grid.cols // side)
    found = []
    for row in range(down):
        for col in range(right):
            window = Window(row * side, col * side, side, side).clipped(grid.rows, grid.cols)
            found.append((row, col, grid.part(window)))
    return found


def piecewise(
    judged: Surface,
    reference: Surface,
    on: Grid,
    across: int,
    tilted: bool = False,
    progress: Progress = ignore_progress,
) -> list[Piece]:
    """Where a surface lies, seen from a reference, in each piece of the ground that both share.

    Parameters
    ----------
    judged, reference : Surface
        Heights in metres.
    on : Grid
        With the cells on which they are compared; what both show of it is cut into pieces.
    across : int
        Pieces along its longer side.
    tilted : bool
        Whether a tilt is looked for as well.
    progress : callable

    Returns
    -------
    list of Piece
        Row by row from the north; pieces that the two do not share are left out.
    """
    todo = pieces_of(shared_ground(judged, reference, on), across)
    told = []
    for number, (row, col, part) in enumerate(todo):
        heard = part_of(progress, number / len(todo), (number + 1) / len(todo))
        heard(0.0)
        x, y = part.middle
        try:
            found = coregistration(judged, reference, tilted, part, heard)
        except NothingSharedError:
            continue
        except InputError as error:
            told.append(Piece(row, col, x, y, None, str(error)))
            continue
        told.append(Piece(row, col, x, y, found))
    return told
