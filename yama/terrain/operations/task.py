"""Running an operation: the one way there is, for API, job, preview, command line and recipe."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any

from pydantic import ValidationError

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, refuse
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.held import Held
from yama.terrain.operations.inputs import Given, Inputs
from yama.terrain.operations.operation import Operation, View
from yama.terrain.operations.parameters import Params, converted
from yama.terrain.operations.register import find
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.quantities import QUANTITIES
from yama.terrain.recipe import Step
from yama.terrain.surface import Surface
from yama.terrain.units import in_unit


class Task:
    """An operation with what it is given.

    Parameters
    ----------
    operation : Operation
        What is run.
    given : mapping of str to what is held
        By role; a sequence where there are several.
    params : Params or mapping
        As they were typed; a mapping is checked.
    frame : Frame
        On which it is run.

    Raises
    ------
    InputError
        Where inputs are missing or of another kind, or parameters are not what they may be.
    """

    def __init__(
        self, operation: Operation[Any], given: Given, params: Params | Mapping[str, Any], frame: Frame
    ) -> None:
        self.operation = operation
        self.params: Any = params if isinstance(params, Params) else parse_params(operation, params)
        self.frame = frame
        self._frame = replace(frame, unit="m") if operation.heights_in == "metres" else frame
        inputs = Inputs(operation.title, operation.inputs, given)
        self.inputs = inputs if operation.heights_in == "given" else inputs.changed(self._put)

    def _put(self, held: Held) -> Held:
        return in_unit(held, self._frame.unit) if isinstance(held, Surface) else held

    @property
    def outputs(self) -> Mapping[str, Output]:
        """The outputs there are with these parameters."""
        return self.operation.outputs_for(self.params)

    @property
    def grid(self) -> Grid:
        """The grid of the cells that are asked for. Raises GridError where it would be an impossible one."""
        size = self.operation.cell_size_of(self.params)
        return self.frame.with_cell_size(size).grid if size else self.frame.grid

    @cached_property
    def findings(self) -> list[Finding]:
        """What is to be said of inputs and parameters; checked once."""
        return self.operation.check(self.inputs, self.params, self._frame)

    @property
    def is_stopped(self) -> bool:
        """Whether a finding stands in the way."""
        return any(one.weight == "stop" for one in self.findings)

    def refuse(self) -> None:
        """Raise InputError where a finding of weight stop stands in the way."""
        refuse(self.findings)

    def chosen(self, asked: list[str] | None = None) -> list[str]:
        """The outputs to make: those that are always made and those asked for, in the operation's order. Raises InputError for names
        that are none."""
        there = self.outputs
        for name in asked or ():
            if name not in self.operation.outputs:
                raise InputError(
                    f"{self.operation.title} gives no {name!r}; it gives {', '.join(self.operation.outputs)}."
                )
            if name not in there:
                raise InputError(
                    f"{self.operation.title} gives no {self.operation.outputs[name].title.lower()} with these settings."
                )
        return [name for name, one in there.items() if one.when == "always" or name in (asked or ())]

    def run(self, progress: Progress = ignore_progress) -> Results:
        """The results; see `Operation.run`. Raises InputError where a finding of weight stop stands in the way."""
        self.refuse()
        params = converted(self.params, self._frame)
        return self._given_back(self.operation.run(self.inputs, params, self._frame, progress))

    def preview(self, view: View) -> Results | None:
        """What stands for the results while settings are chosen; see `Operation.preview`."""
        if self.operation.previews != "rough":
            return None
        self.refuse()
        found = self.operation.preview(self.inputs, converted(self.params, self._frame), self._frame, view)
        return found and self._given_back(found)

    def cost(self) -> float | None:
        """See `Operation.cost`."""
        return self.operation.cost(self.inputs, self.params, self._frame)

    def _given_back(self, results: Results) -> Results:
        """Heights that were worked with in metres, in the frame's unit."""
        if self.operation.heights_in != "metres" or self.frame.unit == "m":
            return results
        outputs = self.outputs

        def back(name: str, surface: Surface) -> Surface:
            quantity = outputs[name].quantity
            return in_unit(surface, self.frame.unit) if quantity and QUANTITIES[quantity].is_of_heights else surface

        return results.changed(back)


def parse_params(operation: Operation[Any], values: Mapping[str, Any]) -> Params:
    """Parameters of an operation, checked.

    Parameters
    ----------
    operation : Operation
        Whose `Params` they are of.
    values : mapping
        As they were typed; parameters that are missing have their defaults.

    Raises
    ------
    InputError
        Names the first parameter that is unknown or wrong, says what it may be and what was given.
    """
    fitting = operation.Params.fitting(values)
    try:
        return fitting.model_validate(dict(values))
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join(map(str, first["loc"])) or "parameters"
        if first["type"] == "extra_forbidden":
            raise InputError(f"{operation.title}: {fitting.unknown(name)}") from error
        given = "" if first["type"] == "missing" else f" (given: {str(first.get('input'))[:40]})"
        raise InputError(f"{operation.title}: {name}: {first['msg']}{given}.") from error


def task_of(step: Step, given: Given) -> tuple[Task, str]:
    """The task of a step of a recipe.

    Parameters
    ----------
    step : Step
        As any version of Yama wrote it; its parameters are brought up to date.
    given : Given
        Its inputs by role.

    Returns
    -------
    Task
        Not run yet.
    str
        The output that the step's own key names.
    """
    operation = find(step.operation)
    params, output = operation.upgraded(step.params)
    return Task(operation, given, params, Frame.from_dict(step.frame or {})), output


def make_step(
    operation: Operation[Any], params: Params, input_keys: Mapping[str, str | list[str]], frame: Frame
) -> Step:
    """The step of a recipe for running an operation.

    Parameters
    ----------
    operation : Operation
        Its name and version are noted.
    params : Params
        Those left at their defaults are not written down, so that naming a default makes no other recipe.
    input_keys : mapping
        Keys of the inputs by role, several where the role takes many.
    frame : Frame
        On which it is run.
    """
    return Step(
        operation=operation.name,
        version=operation.version,
        params=params.told(),
        inputs={name: [keys] if isinstance(keys, str) else keys for name, keys in input_keys.items()},
        frame=frame.to_dict(),
    )
