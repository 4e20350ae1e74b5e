"""Edit lines: changes made by hand to lines and polygons, kept as a list."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yama.terrain.editing import Edit, Edited
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress


class EditParams(Params):
    """The edits, in their order."""

    edits: Annotated[list[Edit], Field(min_length=1, max_length=20_000)]


@register
class EditFeatures(Operation[EditParams]):
    """Edited features beside the untouched ones."""

    name = "edit_features"
    title = "Edit lines"
    stage = "Gather"
    summary = "Delete, reshape, split, join and dissolve lines and polygons; the untouched ones stay."
    inputs = {"features": Role("features", "Lines or polygons")}
    outputs = {"features": Output("features", "Edited lines")}
    previews = "none"

    def run(self, inputs: Inputs, params: EditParams, frame: Frame, progress: Progress) -> Results:
        (features,) = inputs.features("features")
        made = Edited.of(features).apply(params.edits).features()
        if not len(made):
            raise InputError("Nothing is left after these edits. Undo a deletion.")
        return Results(features=made)
