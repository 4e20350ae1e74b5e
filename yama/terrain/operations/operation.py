"""What an operation is."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Generic, Literal, get_args, get_origin

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.parameters import P, Params
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress

Stage = Literal["Gather", "Build", "Join", "Fit", "Mend", "Judge", "Drain", "Deliver"]


@dataclass(frozen=True)
class View:
    """What somebody looks at while settings are chosen.

    Parameters
    ----------
    bounds : Bounds
        In the frame's CRS.
    level : int
        Of the frame's grid: that whose cells are about as large as the screen's.
    """

    bounds: Bounds
    level: int


class Operation(ABC, Generic[P]):
    """One thing that a technician can do: what it takes, what it gives, and how. Algorithms live elsewhere.

    A subclass names its parameters, as in ``class Slope(Operation[SlopeParams])``, and is run by a `Task`, never by itself.

    Attributes
    ----------
    name : str
        In recipes, in the API and on the command line; never changes.
    title, stage, summary : str
        What people see.
    version : int
        Raised when it computes something else from the same inputs and parameters.
    inputs : mapping of str to Role
        What it takes.
    outputs : mapping of str to Output
        What it gives. The first is what the desk shows.
    heights_in : {"given", "metres", "frame"}
        In which unit of height it works: in that of what it is given; in metres, its results then put into the frame's; or in the
        frame's.
    previews : {"exact", "rough", "none"}
        What can be seen before it is run: its results, which are computed as they are looked at; what `preview` gives; nothing.
    area_role : str, optional
        The role whose polygons say where results end.
    Params : type
        Its parameters.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    stage: ClassVar[Stage]
    summary: ClassVar[str]
    version: ClassVar[int] = 1
    inputs: ClassVar[Mapping[str, Role]]
    outputs: ClassVar[Mapping[str, Output]]
    heights_in: ClassVar[Literal["given", "metres", "frame"]] = "given"
    previews: ClassVar[Literal["exact", "rough", "none"]] = "exact"
    area_role: ClassVar[str | None] = None
    Params: ClassVar[type[Params]]

    def __init_subclass__(cls) -> None:
        for base in getattr(cls, "__orig_bases__", ()):
            of = get_origin(base)
            if isinstance(of, type) and issubclass(of, Operation) and isinstance(get_args(base)[0], type):
                cls.Params = get_args(base)[0]

    @property
    def first(self) -> str:
        """The name of its first output."""
        return next(iter(self.outputs))

    def outputs_for(self, params: P) -> Mapping[str, Output]:
        """The outputs that there are with these parameters, and what the cells of each then say."""
        return self.outputs

    def cell_size_of(self, params: P) -> float | None:
        """The side of the cells that are asked for; None where they are the frame's, or those of an input."""
        return None

    def cost(self, inputs: Inputs, params: P, frame: Frame) -> float | None:
        """Seconds that a run takes on one core; None where looking at a part of the result tells."""
        return None

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        """Parameters as an earlier version of Yama wrote them, as they are written now, and the output that a step with them was run
        for."""
        return params, self.first

    def check(self, inputs: Inputs, params: P, frame: Frame) -> list[Finding]:
        """Findings about inputs and parameters, these as they were typed. Where one is of weight stop it is not run."""
        return []

    @abstractmethod
    def run(self, inputs: Inputs, params: P, frame: Frame, progress: Progress) -> Results:
        """The results.

        Parameters
        ----------
        inputs : Inputs
            With heights in the unit in which the operation works.
        params : Params
            With lengths and heights as their fields say.
        frame : Frame
            With the unit of height in which the operation works.
        progress : callable
            Called with the share done; it may raise CancelledError.

        Returns
        -------
        Results
            Surfaces and clouds cost little here: their cells and points are computed when they are read or written.
        """

    def preview(self, inputs: Inputs, params: P, frame: Frame, view: View) -> Results | None:
        """What nearly stands for the results in a view, at once; None where what `run` gives is quick enough to look at.

        Asked only where `previews` is ``"rough"``. Outputs that are missing in it cannot be seen before a run.
        """
        return None
