"""Making something of every block of a surface, on all cores."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ThreadPoolExecutor, wait
from typing import TypeVar

from yama.terrain.cluster import ClusterPool, cores, pool
from yama.terrain.cog import BLOCK
from yama.terrain.ending import until
from yama.terrain.grid import Window
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Heights, Surface

Made = TypeVar("Made")
Thing = TypeVar("Thing")

_PATIENCE = 0.5  # seconds


def walk(
    surface: Surface,
    make: Callable[[Surface, Window], Made],
    visit: Callable[[Window, Made], None],
    progress: Progress = ignore_progress,
    executor: Executor | None = None,
    workers: int | None = None,
    block: int = BLOCK,
) -> None:
    """Make something of every block of a surface on all cores, and hand it to `visit`.

    Parameters
    ----------
    surface : Surface
        It is not prepared here; see `prepared`.
    make : callable
        Called in workers with the surface and a window. It must be picklable where another process works.
    visit : callable
        Called here with the window and what was made of it, for one block at a time, in no set order.
    progress : callable
        Called with the share done, every half second at least.
    executor : concurrent.futures.Executor, optional
        Where blocks are made; see `cluster.pool` where not given.
    workers : int, optional
        How many blocks are made at one time; see `cluster.cores` where not given. At most twice as many are held.
    block : int
        Rows and columns of a block.

    Raises
    ------
    Exception
        Whatever `make`, `visit` or `progress` raises. What is being made then hears of the end; see `ending`.
    """
    asked = workers or cores()
    own = pool(asked) if executor is None else None
    workers = own.threads if isinstance(own, ClusterPool) else asked
    taken = executor or own
    assert taken is not None
    todo = iter(list(surface.grid.blocks(block)))
    total = -(-surface.grid.rows // block) * -(-surface.grid.cols // block)
    running: dict[Future[Made], Window] = {}
    done = 0
    ended = threading.Event()
    work = until(ended, make) if isinstance(taken, ThreadPoolExecutor) else make
    try:
        while True:
            for window in todo:
                running[taken.submit(work, surface, window)] = window
                if len(running) >= 2 * workers:
                    break
            if not running:
                return
            finished, _ = wait(running, timeout=_PATIENCE, return_when=FIRST_COMPLETED)
            if not finished:
                progress(done / total)
            for future in finished:
                visit(running.pop(future), future.result())
                done += 1
                progress(done / total)
    finally:
        ended.set()
        for future in running:
            future.cancel()
        if own:
            own.shutdown(wait=True, cancel_futures=True)


def _call(work: Callable[[Thing], Made], thing: Thing) -> Made:
    return work(thing)


def each(
    things: Sequence[Thing],
    work: Callable[[Thing], Made],
    progress: Progress = ignore_progress,
    spread: bool = False,
) -> list[Made]:
    """What `work` makes of each thing, in their order, on all cores of this process.

    Parameters
    ----------
    things : sequence
    work : callable
    progress : callable
        Called with the share done, every half second at least; what it raises ends the work, of which no more is begun.
    spread : bool
        On the workers of the scheduler that YAMA_CLUSTER names, where it names one. All must be picklable there.
    """
    made: dict[int, Made] = {}
    running: dict[Future[Made], int] = {}
    todo = iter(range(len(things)))
    ended = threading.Event()
    workers = pool(cores()) if spread else ThreadPoolExecutor(cores())
    # what is to be done is the same for all things, and is sent to the workers of a scheduler once
    doing = work if isinstance(workers, ClusterPool) else until(ended, work)
    at_once = 2 * (workers.threads if isinstance(workers, ClusterPool) else cores())
    try:
        while len(made) < len(things):
            for number in todo:
                running[workers.submit(_call, doing, things[number])] = number
                if len(running) >= at_once:
                    break
            finished, _ = wait(running, timeout=_PATIENCE, return_when=FIRST_COMPLETED)
            for future in finished:
                made[running.pop(future)] = future.result()
            progress(len(made) / len(things))
        return [made[number] for number in range(len(things))]
    finally:
        ended.set()
        workers.shutdown(wait=True, cancel_futures=True)


def prepared(surface: Surface, progress: Progress) -> Progress:
    """Prepare a surface, with the first 0.3 of the progress, and return the progress of what comes after.

    Parameters
    ----------
    surface : Surface
        See `Surface.prepare`.
    progress : callable
        Called with the share of all of the work.

    Returns
    -------
    callable
        Takes the share of what comes after. It goes on from where preparing got to: from 0 where there was nothing to
        prepare.
    """
    reached = 0.0

    def note(share: float) -> None:
        nonlocal reached
        reached = 0.3 * share
        progress(reached)

    surface.prepare(note)
    return lambda share: progress(reached + (1.0 - reached) * share)


def read_block(surface: Surface, window: Window) -> Heights:
    """The values of a window: what a walk makes where nothing else is wanted."""
    return surface.read(window)
