"""Mend: a surface repaired by patches."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.patches import MOST, KeepOut, Patch
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table

_COLUMNS = (
    Column("number", "Number", type="whole"),
    Column("name", "Name", type="text"),
    Column("operator", "Operator", type="text"),
    Column("cells", "Cells changed", type="whole"),
    Column("raised", "Raised", "m³", decimals=1),
    Column("lowered", "Lowered", "m³", decimals=1),
    Column("largest", "Largest change", "m", decimals=2),
    Column("problem", "Why it changes nothing", type="text"),
    Column("remark", "What to know of it", type="text"),
)


class MendParams(Params):
    """The patches, in their order, and areas that they leave alone."""

    patches: Annotated[list[Patch], Field(min_length=1, max_length=MOST)]
    keep_outs: Annotated[list[KeepOut], Field(max_length=MOST)] = Field(
        [], title="Keep-outs", description="Areas that no patch changes, unless it says so."
    )

    leave_out: bool = Field(
        False,
        title="Leave out what cannot be done",
        description="Patches that cannot be done change nothing, and it is said why; else one stops the run.",
    )

    def in_words(self) -> list[str]:
        """Each patch with its operator and what is set of it, and each keep-out."""
        said = []
        for number, patch in enumerate(self.patches, start=1):
            set_otherwise = patch.operator.model_dump(exclude_defaults=True, exclude={"kind"})
            settings = {
                **set_otherwise,
                **patch.model_dump(include={"feather", "strength", "times"}, exclude_defaults=True),
            }
            told = [patch.operator.kind, *(_setting(patch, name, value) for name, value in settings.items())]
            if not patch.on:
                told.append("off")
            if patch.over_keep_outs:
                told.append("over keep-outs too")
            note = f" ({patch.note})" if patch.note else ""
            said.append(f"{number} {patch.name or 'patch'}: {', '.join(told)}{note}")
        return said + [f"Keep-out: {one.name or 'without a name'}" for one in self.keep_outs]


def _setting(patch: Patch, name: str, value: Any) -> str:
    """A setting of a patch or its operator, for people."""
    of = patch if name in type(patch).model_fields else patch.operator
    info = type(of).model_fields[name]
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    title = (info.title or name).lower()
    if isinstance(value, bool):
        return title if value else f"not {title}"
    titles = extra.get("titles")
    word = titles.get(value, value) if isinstance(titles, dict) else value
    return f"{title} {word:g}\u202f{extra['unit']}" if "unit" in extra else f"{title} {word}"


def _mended(inputs: Inputs, params: MendParams, frame: Frame) -> MendedSurface:
    """The surface with its patches, whose places are in the frame's CRS."""
    surface = inputs.surface("surface")
    patches = [one.turned(frame.grid.crs, surface.grid) for one in params.patches]
    keep_outs = [one.turned(frame.grid.crs, surface.grid) for one in params.keep_outs]
    other = next(iter(inputs.surfaces("other")), None)
    return MendedSurface(surface, patches, keep_outs, other, params.leave_out)


@register
class Mend(Operation[MendParams]):
    """A surface with patches; the untouched one stays."""

    name = "mend"
    title = "Mend"
    stage = "Mend"
    summary = "Repair a surface with patches: along structures, lakes, rivers, trees, spikes; the untouched one stays."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "other": Role("surface", "Replaced from", optional=True, quantity="height"),
    }
    outputs = {
        "surface": Output("surface", "Mended surface", "height"),
        "patches": Output("table", "What patches did", when="asked", told=True),
    }
    heights_in = "metres"

    def check(self, inputs: Inputs, params: MendParams, frame: Frame) -> list[Finding]:
        try:
            surface = _mended(inputs, params, frame)
            found = [Finding("kept_out", "caution", sentence) for sentence in surface.kept_out()]
            if params.leave_out:
                told = (("undone", surface.problems()), ("remark", surface.remarks()))
                return [
                    *(
                        Finding(code, "caution", sentence)
                        for code, by_number in told
                        for _, sentence in sorted(by_number.items())
                    ),
                    *found,
                ]
        except InputError as error:
            return [Finding("outline", "stop", str(error))]
        if not inputs.has("other") and any(one.on and one.operator.kind == "replace" for one in params.patches):
            return [
                Finding(
                    "other", "stop", "A patch replaces cells from another surface, and none is given.", "Choose one."
                )
            ]
        return found

    def run(self, inputs: Inputs, params: MendParams, frame: Frame, progress: Progress) -> Results:
        surface = _mended(inputs, params, frame)

        def told() -> Table:
            rows: list[tuple[Cell, ...]] = []
            problems, remarks = surface.problems() if params.leave_out else {}, surface.remarks()
            numbers = [number for number, patch in enumerate(params.patches, start=1) if patch.on]
            for i, (number, patch) in enumerate(zip(numbers, surface.patches, strict=True)):
                did = surface.did(i)
                rows.append(
                    (
                        number,
                        patch.name,
                        patch.operator.kind,
                        did.cells,
                        round(did.raised, 1),
                        round(did.lowered, 1),
                        round(did.largest, 3),
                        problems.get(i),
                        remarks.get(i),
                    )
                )
            return Table(
                _COLUMNS,
                rows,
                {
                    "patches": len(rows),
                    "raised": sum(float(row[4] or 0) for row in rows),
                    "lowered": sum(float(row[5] or 0) for row in rows),
                },
            )

        return Results(surface=surface, patches=told)
