"""What an operation gives, by name."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

from yama.terrain.cloud import NewCloud
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.quantities import Quantity
from yama.terrain.surface import Surface
from yama.terrain.table import Table

Result = Surface | Features | NewCloud | Table
OutputKind = Literal["surface", "features", "cloud", "table"]


@dataclass(frozen=True)
class Output:
    """One thing that an operation gives.

    Parameters
    ----------
    kind : str
        What is held when it is kept.
    title : str
        What people call it.
    quantity : str, optional
        What the cells of a surface say; see `quantities`.
    when : {"always", "asked"}
        Whether it is made unless asked for.
    told : bool
        Whether the report of a package says it of what was made with it; of tables.
    """

    kind: OutputKind
    title: str
    quantity: Quantity | None = None
    when: Literal["always", "asked"] = "always"
    told: bool = False


class Results:
    """Results by the names of an operation's outputs.

    Each is given as it is, or as a function that makes it: called once, when it is first asked for, however many threads ask, so that
    what nobody asks for costs nothing.
    """

    def __init__(self, **made: Result | Callable[[], Result]) -> None:
        self._made: dict[str, Result | Callable[[], Result]] = made
        self._making = threading.RLock()

    def __contains__(self, name: str) -> bool:
        return name in self._made

    def __iter__(self) -> Iterator[str]:
        return iter(self._made)

    def __getitem__(self, name: str) -> Result:
        found = self._made[name]
        if isinstance(found, Result):
            return found
        with self._making:
            found = self._made[name]  # another thread may have made it meanwhile
            if not isinstance(found, Result):
                found = self._made[name] = found()
            return found

    def surface(self, name: str) -> Surface:
        """A result that is a surface. Raises TypeError where it is none."""
        found = self[name]
        if not isinstance(found, Surface):
            raise TypeError(f"The output {name} is no surface.")
        return found

    def changed(self, change: Callable[[str, Surface], Surface]) -> Results:
        """The same with something else in place of each surface, by name, when it is asked for."""

        def later(name: str) -> Callable[[], Result]:
            def make() -> Result:
                found = self[name]
                return change(name, found) if isinstance(found, Surface) else found

            return make

        return Results(**{name: later(name) for name in self})


def findings_of(result: Result) -> list[Finding]:
    """What making a result showed that its inputs did not; of a surface complete once all its cells have been read."""
    return result.findings if isinstance(result, Surface) else []
