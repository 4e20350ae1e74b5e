"""Making something of every block of a surface, on all cores."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ThreadPoolExecutor, wait
from typing import TypeVar

from yama.terrain.cluster import ClusterPool, cores, pool
from yama.terrain.cog import BLOCK
from yama.terrain.ending import until
from yama.terrain.grid import Window
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Heights, Surface

Made = TypeVar("Made")

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
    """Make something of every block of a surface on all cores and hand it to `visit`, in no set order, one at a time.

    At most twice `workers` blocks are held. Whatever `visit` or `progress` raises ends the walk; `progress` is called every half
    second at least, and what is being made hears of the end (see `ending`) where it takes long.
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


def prepared(surface: Surface, progress: Progress) -> Progress:
    """Prepare a surface, and return the progress of what comes after it, which goes on from where preparing got to."""
    reached = 0.0

    def note(share: float) -> None:
        nonlocal reached
        reached = 0.3 * share
        progress(reached)

    surface.prepare(note)
    return lambda share: progress(reached + (1.0 - reached) * share)


def read_block(surface: Surface, window: Window) -> Heights:
    """What a walk makes where the heights themselves are wanted."""
    return surface.read(window)
