"""What an operation is, and the register of all of them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from yama.terrain.cloud import Cloud
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.fit.clip import Masked, polygons_of
from yama.terrain.formats import Held
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds
from yama.terrain.points import Points
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.recipe import Step
from yama.terrain.surface import Surface
from yama.terrain.units import InUnit, in_unit

Inputs = Mapping[str, Held | list[Held]]
"""What an operation is given, by role; a list where the role takes many."""
Kind = Literal["points", "surface", "cloud", "features"]
_TYPES: dict[Kind, type] = {"points": Points, "surface": Surface, "cloud": Cloud, "features": Features}
Quantity = Literal[
    "height",
    "difference",
    "slope",
    "aspect",
    "brightness",
    "spread",
    "count",
    "intensity",
    "distance",
    "source",
    "curvature",
    "openness",
    "contrast",
]
"""What the cells of a surface say."""
Produces = Literal["surface", "features", "cloud", "figures"]
Stage = Literal["Gather", "Build", "Join", "Fit", "Mend", "Judge", "Drain", "Deliver"]


@dataclass(frozen=True)
class Role:
    """One thing an operation takes: what kind, and how a person calls it. many: any number of them, at least one.
    optional: it may be missing."""

    kind: Kind
    title: str
    many: bool = False
    optional: bool = False


class Params(BaseModel):
    """Base of all parameters: unknown names are refused, numbers must be finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Operation(ABC):
    """One thing a technician can do. Subclasses say what; algorithms live elsewhere."""

    name: ClassVar[str]
    title: ClassVar[str]
    stage: ClassVar[Stage]
    summary: ClassVar[str]
    version: ClassVar[int] = 1
    inputs: ClassVar[Mapping[str, Role]]
    Params: ClassVar[type[Params]]
    produces: ClassVar[Produces] = "surface"
    quantity: ClassVar[Quantity] = "height"
    heights_in: ClassVar[Literal["given", "metres", "frame"]] = "given"
    """In which unit it works, see `Task`: in that of what it is given, in metres with its result then put into the frame's, or in
    the frame's."""
    quick: ClassVar[bool] = False
    """Whether its figures are sampled so that they take a second or two for any input, and a preview may show them."""

    def quantity_of(self, params: Any) -> Quantity:
        """What the cells of the result say, where that depends on the parameters."""
        return self.quantity

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        """Findings about these inputs and parameters. One of weight stop means it would not run."""
        return []

    def found(self, result: Any) -> list[Finding]:
        """What a made surface shows that its inputs did not. Asked when all its cells have been made."""
        return []

    @abstractmethod
    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Any:
        """The result: a live Surface, Features, a Reclassified cloud, or for figures a dict of JSON values. Cheap for
        surfaces and clouds: their cells and points are made when they are read or written."""

    def rough(self, inputs: Inputs, params: Any, frame: Frame) -> Surface | None:
        """What `run` would give, only nearly so but at once, to be looked at while settings are chosen; None where `run` itself is
        quick enough for that. Asked only where `check` found nothing that stops it."""
        return None

    def make(self, inputs: Inputs, params: Any, frame: Frame, progress: Progress = ignore_progress) -> Any:
        """The result, with progress. Operations whose `run` takes long override it."""
        return self.run(inputs, params, frame)

    def figures(
        self, inputs: Inputs, params: Any, frame: Frame, progress: Progress = ignore_progress
    ) -> dict[str, Any]:
        """The result of an operation that produces figures, with progress. Long ones override it."""
        found: dict[str, Any] = self.run(inputs, params, frame)
        return found


OF_HEIGHTS: tuple[Quantity, ...] = ("height", "difference", "spread")
"""Quantities whose cells are in a unit of height."""


class Task:
    """An operation with what it is given, in the units in which it works. The one way to run an operation."""

    def __init__(self, operation: Operation, inputs: Inputs, params: Any, frame: Frame) -> None:
        self.operation, self.params = operation, params
        self._unit = frame.unit if operation.heights_in == "metres" else None
        self._frame = replace(frame, unit="m") if operation.heights_in == "metres" else frame
        self.inputs = inputs
        if operation.heights_in != "given":
            self.inputs = {
                name: [self._put(one) for one in held] if isinstance(held, list) else self._put(held)
                for name, held in inputs.items()
            }

    def _put(self, held: Held) -> Held:
        return in_unit(held, self._frame.unit) if isinstance(held, Surface) else held

    def _given_back(self, result: Any) -> Any:
        if not isinstance(result, Surface) or self._unit is None:
            return result
        return in_unit(result, self._unit) if self.operation.quantity_of(self.params) in OF_HEIGHTS else result

    def check(self) -> list[Finding]:
        """See `Operation.check`."""
        return self.operation.check(self.inputs, self.params, self._frame)

    def run(self) -> Any:
        """See `Operation.run`."""
        return self._given_back(self.operation.run(self.inputs, self.params, self._frame))

    def rough(self) -> Surface | None:
        """See `Operation.rough`."""
        found: Surface | None = self._given_back(self.operation.rough(self.inputs, self.params, self._frame))
        return found

    def make(self, progress: Progress = ignore_progress) -> Any:
        """See `Operation.make`."""
        return self._given_back(self.operation.make(self.inputs, self.params, self._frame, progress))

    def figures(self, progress: Progress = ignore_progress) -> dict[str, Any]:
        """See `Operation.figures`."""
        return self.operation.figures(self.inputs, self.params, self._frame, progress)

    def found(self, result: Any) -> list[Finding]:
        """See `Operation.found`."""
        return self.operation.found(result.surface if isinstance(result, InUnit) else result)


_REGISTER: dict[str, Operation] = {}


def register(operation: type[Operation]) -> type[Operation]:
    """Class decorator that puts an operation into the catalogue."""
    _REGISTER[operation.name] = operation()
    return operation


def catalogue() -> dict[str, Operation]:
    """All operations by name."""
    return dict(_REGISTER)


def find(name: str) -> Operation:
    """The operation of that name. Raises InputError with the names there are."""
    if name not in _REGISTER:
        raise InputError(f"There is no operation {name!r}. There are: {', '.join(sorted(_REGISTER))}.")
    return _REGISTER[name]


def parse_params(operation: Operation, values: Mapping[str, Any]) -> Params:
    """Checked parameters. Raises InputError that names the parameter, its title and what is wrong."""
    try:
        return operation.Params.model_validate(dict(values))
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join(map(str, first["loc"])) or "parameters"
        given = "" if first["type"] == "missing" else f" (given: {str(first.get('input'))[:40]})"
        raise InputError(f"{operation.title}: {name}: {first['msg']}{given}.") from error


def make_step(operation: Operation, params: Params, input_keys: Mapping[str, str | list[str]], frame: Frame) -> Step:
    """The recipe's step for running an operation. Parameters left at their defaults are not written down, so that
    naming a default makes no other recipe."""
    return Step(
        operation=operation.name,
        version=operation.version,
        params=params.model_dump(exclude_defaults=True, mode="json"),
        inputs={name: [keys] if isinstance(keys, str) else keys for name, keys in input_keys.items()},
        frame=frame.to_dict(),
    )


def take_inputs(operation: Operation, given: Inputs) -> dict[str, Held | list[Held]]:
    """The inputs an operation asks for, checked for presence, kind and number."""
    for name in given:
        if name not in operation.inputs:
            raise InputError(f"{operation.title} takes no input {name!r}; it takes {', '.join(operation.inputs)}.")
    taken: dict[str, Held | list[Held]] = {}
    for name, role in operation.inputs.items():
        held = given.get(name)
        if held is None or held == []:
            if role.optional:
                continue
            raise InputError(f"{operation.title} needs {role.title.lower()} (input {name!r}).")
        each = held if isinstance(held, list) else [held]
        if not all(isinstance(one, _TYPES[role.kind]) for one in each):
            raise InputError(f"{operation.title}: input {name!r} must be {role.kind}.")
        if len(each) > 1 and not role.many:
            raise InputError(f"{operation.title} takes one {role.title.lower()} (input {name!r}), not {len(each)}.")
        taken[name] = each if role.many else each[0]
    return taken


def features_in(inputs: Inputs, name: str) -> list[Features]:
    """The features given in a role, however many it takes; none where it is missing."""
    held = inputs.get(name, [])
    return [one for one in (held if isinstance(held, list) else [held]) if isinstance(one, Features)]


AREA = Role("features", "Area", many=True, optional=True)
"""Polygons outside of which a result is empty: in every operation that takes it, by `within_area` and `about_area`."""


def within_area(surface: Surface, inputs: Inputs) -> Surface:
    """The surface, empty outside the polygons of the role `area` where any are given."""
    given = features_in(inputs, "area")
    return Masked(surface, polygons_of(given, surface.grid.crs)) if given else surface


def about_area(inputs: Inputs, frame: Frame) -> list[Finding]:
    """What is wrong with the polygons of the role `area`."""
    given = features_in(inputs, "area")
    if not given:
        return []
    polygons = polygons_of(given, frame.grid.crs)
    if not polygons:
        return [Finding("no_area", "stop", "What is chosen as area holds no polygon.", "Choose another, or none.")]
    if not any(frame.grid.bounds.intersection(Bounds(*shape.bounds)) for shape in polygons):
        return [
            Finding("area_outside", "stop", "The area lies outside the frame.", "Choose another, or check its CRS.")
        ]
    return []


def describe(operation: Operation) -> dict[str, Any]:
    """An operation as JSON values, with the JSON Schema of its parameters."""
    return {
        "name": operation.name,
        "title": operation.title,
        "stage": operation.stage,
        "summary": operation.summary,
        "version": operation.version,
        "produces": operation.produces,
        "quantity": operation.quantity,
        "inputs": {name: vars(role) for name, role in operation.inputs.items()},
        "params": operation.Params.model_json_schema(),
    }
