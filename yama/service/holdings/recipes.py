"""The recipe of a holding, back to the files."""

from __future__ import annotations

from typing import Any

from ninja.errors import HttpError

from yama.service.holdings.models import Holding
from yama.terrain.recipe import export, parted, source


def recipe_of(holding: Holding) -> dict[str, Any]:
    """The recipe of a holding as `yama cook` reads it. Refused where a file it began with is gone."""
    held = list(holding.project.holdings.all())
    files_by_key = {one.key: one for one in held if one.step is None}
    steps_by_key = {parted(one.key)[0]: one.step for one in held if one.step is not None}
    steps, files, todo = {}, {}, [holding.key]
    while todo:
        key = todo.pop()
        step_key = parted(key)[0]
        if step_key in steps or key in files:
            continue
        if key in files_by_key:
            one = files_by_key[key]
            files[key] = source(one.original, one.file_key, one.declared, one.source_crs)
        elif step_key in steps_by_key:
            step = steps_by_key[step_key]
            steps[step_key] = step
            todo += [source for keys in step.inputs.values() for source in keys]
        else:
            raise HttpError(409, "Something this was made from is no longer in the project.")
    return export(holding.key, steps, files)
