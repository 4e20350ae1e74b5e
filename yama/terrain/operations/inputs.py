"""What an operation is given, handed over by role and kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, TypeVar

from yama.terrain.cloud import Cloud
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.held import Held
from yama.terrain.images import Image
from yama.terrain.points import Points
from yama.terrain.surface import Surface
from yama.terrain.table import Table

Kind = Literal["points", "surface", "cloud", "features", "image", "table"]
TYPES: dict[str, type[Held]] = {
    "points": Points, "surface": Surface, "cloud": Cloud, "features": Features, "image": Image, "table": Table,
}  # fmt: skip
Given = Mapping[str, Held | Sequence[Held]]

T = TypeVar("T")


@dataclass(frozen=True)
class Role:
    """One thing that an operation takes.

    Parameters
    ----------
    kind : str
        Of what is taken.
    title : str
        What people call it.
    many : bool
        Any number of them, at least one.
    optional : bool
        It may be missing.
    of : tuple of {"lines", "polygons"}
        Of features: the geometry that is meant, one of these; any where empty.
    quantity : str, optional
        Of a surface: what its cells say, where only that makes sense.
    column : str, optional
        Of a table: a column that it must have.
    """

    kind: Kind
    title: str
    many: bool = False
    optional: bool = False
    of: tuple[Literal["lines", "polygons"], ...] = ()
    quantity: str | None = None
    column: str | None = None


class Inputs:
    """What is given by role, of the kinds that the roles ask for.

    Parameters
    ----------
    title : str
        Of the operation, for sentences.
    roles : mapping of str to Role
        What it takes.
    given : mapping of str to what is held
        By role; a sequence where there are several.

    Raises
    ------
    InputError
        Where a role is unknown, missing, of another kind, or given too many.
    """

    def __init__(self, title: str, roles: Mapping[str, Role], given: Given) -> None:
        for name in given:
            if name not in roles:
                raise InputError(f"{title} takes no input {name!r}; it takes {', '.join(roles)}.")
        self._held: dict[str, list[Held]] = {}
        for name, role in roles.items():
            held = given.get(name)
            each = [] if held is None else list(held) if isinstance(held, (list, tuple)) else [held]
            if not each and not role.optional:
                raise InputError(f"{title} needs {role.title.lower()} (input {name!r}).")
            if not all(isinstance(one, TYPES[role.kind]) for one in each):
                raise InputError(f"{title}: input {name!r} must be {role.kind}.")
            if len(each) > 1 and not role.many:
                raise InputError(f"{title} takes one {role.title.lower()} (input {name!r}), not {len(each)}.")
            self._held[name] = each  # type: ignore[assignment]

    def __iter__(self) -> Iterator[Held]:
        return (one for each in self._held.values() for one in each)

    @property
    def roles(self) -> list[str]:
        """The names of all roles, given or not."""
        return list(self._held)

    def has(self, role: str) -> bool:
        """Whether anything is given in an optional role."""
        return bool(self._held[role])

    def changed(self, change: Callable[[Held], Held]) -> Inputs:
        """The same with something else in place of each thing."""
        made = Inputs("", {}, {})
        made._held = {name: [change(one) for one in each] for name, each in self._held.items()}
        return made

    def _many(self, role: str, kind: type[T]) -> list[T]:
        return [one for one in self._held[role] if isinstance(one, kind)]

    def _one(self, role: str, kind: type[T]) -> T:
        (one,) = self._many(role, kind)
        return one

    def surface(self, role: str) -> Surface:
        """The surface of a role that takes one."""
        return self._one(role, Surface)  # type: ignore[type-abstract]

    def surfaces(self, role: str) -> list[Surface]:
        """The surfaces of a role; none where it is optional and missing."""
        return self._many(role, Surface)  # type: ignore[type-abstract]

    def points(self, role: str) -> Points:
        """The points of a role that takes one holding of them."""
        return self._one(role, Points)

    def all_points(self, role: str) -> list[Points]:
        """The points of a role; none where it is optional and missing."""
        return self._many(role, Points)

    def features(self, role: str) -> list[Features]:
        """The features of a role, however many holdings it takes; none where it is optional and missing."""
        return self._many(role, Features)

    def cloud(self, role: str) -> Cloud:
        """The cloud of a role that takes one."""
        return self._one(role, Cloud)

    def clouds(self, role: str) -> list[Cloud]:
        """The clouds of a role; none where it is optional and missing."""
        return self._many(role, Cloud)

    def image(self, role: str) -> Image:
        """The image of a role that takes one."""
        return self._one(role, Image)

    def images(self, role: str) -> list[Image]:
        """The images of a role; none where it is optional and missing."""
        return self._many(role, Image)

    def table(self, role: str) -> Table:
        """The table of a role that takes one."""
        return self._one(role, Table)
