"""Where blocks are computed: on the threads of this process, or on the workers of a Dask scheduler."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from typing import Any

from yama.terrain.errors import InputError

ADDRESS = "YAMA_CLUSTER"
"""The variable that names the scheduler, such as `tcp://127.0.0.1:8786`. Its workers need Yama and the same files."""

WORKERS = "YAMA_WORKERS"
"""The variable that says how many blocks are computed at one time, where it is not the number of cores."""

_PATIENCE = 10  # seconds


def cores() -> int:
    """How many blocks are computed at one time here: the cores that this process may run on, or what YAMA_WORKERS says. Raises InputError where YAMA_WORKERS is no number of workers."""
    said = os.environ.get(WORKERS, "")
    if not said:
        return len(os.sched_getaffinity(0))
    if not said.isdecimal() or int(said) < 1:
        raise InputError(f"{WORKERS} is {said!r}; it must be a whole number from 1 on.")
    return int(said)


class ClusterPool(Executor):
    """The workers of a Dask scheduler as an executor. The first argument of each call is sent to them once.

    Raises InputError where no scheduler answers.
    """

    def __init__(self, address: str) -> None:
        from distributed import Client  # heavy, and seldom needed

        try:
            self._client = Client(address, timeout=_PATIENCE, set_as_default=False)
        except (OSError, ValueError) as error:
            raise InputError(
                f"{ADDRESS} names {address}, and no scheduler answers there. Start it, or unset {ADDRESS}."
            ) from error
        self._pool = self._client.get_executor(pure=False)
        self._sent: tuple[Any, Any] | None = None

    @property
    def threads(self) -> int:
        """How many threads its workers have together."""
        return max(int(sum(self._client.nthreads().values())), 1)

    def submit(self, fn: Callable[..., Any], /, *args: Any, **kwargs: Any) -> Future[Any]:
        """See `Executor.submit`."""
        first, *rest = args
        if self._sent is None or self._sent[0] is not first:
            (there,) = self._client.scatter([first], broadcast=True, hash=False)
            self._sent = first, there
        future: Future[Any] = self._pool.submit(fn, self._sent[1], *rest, **kwargs)
        return future

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """See `Executor.shutdown`. The workers stay for the next."""
        self._pool.shutdown(wait=wait)
        self._sent = None
        self._client.close()


def pool(workers: int) -> Executor:
    """An executor for blocks: `workers` threads, or the scheduler that YAMA_CLUSTER names."""
    address = os.environ.get(ADDRESS)
    return ClusterPool(address) if address else ThreadPoolExecutor(workers)
