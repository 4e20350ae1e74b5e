"""`yama do` and `yama cook`: an operation on files, and a recipe made again."""

from __future__ import annotations

import argparse
import json
import tempfile
from pathlib import Path
from typing import Any

from pyproj import Transformer

from yama.terrain import formats, operations, recipe
from yama.terrain.cli.frames import extent_of
from yama.terrain.cli.look import as_one, looked_at, read
from yama.terrain.cli.words import declared_of, new_file, say, value
from yama.terrain.cloud import Cloud, Reclassified
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.formats import Held
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame, propose
from yama.terrain.grid import Bounds, parse_crs
from yama.terrain.operations.base import Inputs, Operation, Task
from yama.terrain.points import Points
from yama.terrain.recipe import Step
from yama.terrain.surface import Surface


def _frame(path: str | None, inputs: Inputs) -> Frame:
    if path:
        try:
            return Frame.from_dict(json.loads(Path(path).read_text(encoding="utf-8")))
        except (OSError, ValueError) as error:
            raise InputError(f"{path} is not a readable frame: {error}") from error
    every = [one for held in inputs.values() for one in (held if isinstance(held, list) else [held])]
    surfaces = [held for held in every if isinstance(held, Surface)]
    if surfaces:
        return _over_all(surfaces)
    for kind in (Points, (Cloud, Features)):
        given = [extent_of(held, "the input") for held in every if isinstance(held, kind)]
        if given:
            return propose(given).frame
    raise InputError("Give --frame, or an input to take it from.")


def _settings(operation: Operation, given: list[tuple[str, str]]) -> dict[str, Any]:
    """Settings as they were typed; where a list is asked for, one value is a list of it, and words part at commas."""
    asked = operation.Params.model_json_schema().get("properties", {})
    found: dict[str, Any] = {}
    for name, text in given:
        said = value(text)
        options = asked.get(name, {}).get("anyOf", [asked.get(name, {})])
        if {one.get("type") for one in options} <= {"array", "null"} and not isinstance(said, (list, type(None))):
            said = said.split(",") if isinstance(said, str) else [said]
        found[name] = said
    return found


def _over_all(surfaces: list[Surface]) -> Frame:
    """The first surface's cells, over all of them."""
    first = surfaces[0]
    grid = first.grid
    boxes = [
        Transformer.from_crs(parse_crs(one.grid.crs), parse_crs(grid.crs), always_xy=True).transform_bounds(*one.grid.bounds)
        if one.grid.crs != grid.crs else one.grid.bounds
        for one in surfaces
    ]  # fmt: skip
    wide = Bounds(min(box[0] for box in boxes), min(box[1] for box in boxes),
                  max(box[2] for box in boxes), max(box[3] for box in boxes))  # fmt: skip
    window = grid.window_over(wide)
    if window == grid.whole or len(surfaces) == 1:
        return Frame(grid, first.unit, first.vertical_datum)
    say(
        [
            Finding(
                "frame",
                "note",
                f"No --frame was given: the cells of the first input, over all {len(surfaces)} of them.",
            )
        ]
    )
    return Frame(grid.part(window), first.unit, first.vertical_datum)


def _task(step: Step, inputs: Inputs, frame: Frame) -> Task:
    """The task of a step. Raises InputError where the operation computes otherwise by now than when the step was written."""
    operation = operations.find(step.operation)
    if operation.version != step.version:
        raise InputError(
            f"The recipe asks for {step.operation} version {step.version}; here it is {operation.version}."
        )
    return Task(
        operation, operations.take_inputs(operation, inputs), operations.parse_params(operation, step.params), frame
    )


def _run(step: Step, inputs: Inputs, frame: Frame, out: Path) -> None:
    task = _task(step, inputs, frame)
    say(task.check())
    result = task.run()
    if isinstance(result, (Surface, Features, Reclassified)):
        formats.write(result, out, tags={"RECIPE": step.key})
        say(task.found(result))
    else:
        out.write_text(json.dumps(result, indent=2) + "\n", encoding="utf-8")


def do(arguments: argparse.Namespace) -> None:
    operation = operations.find(arguments.operation)
    files: dict[str, list[str]] = {}
    for name, path in arguments.inputs:
        files.setdefault(name, []).append(path)
    out = new_file(arguments.out)
    recipe_file = new_file(arguments.recipe)
    assert out is not None
    held: dict[str, Held] = {}
    said: dict[str, Declared] = {}
    for path in dict.fromkeys(path for paths in files.values() for path in paths):
        said[path], held[path] = read(path, declared_of(arguments), arguments.crs)
    inputs: dict[str, Held | list[Held]] = {name: [held[path] for path in paths] for name, paths in files.items()}
    operations.take_inputs(operation, inputs)  # before a frame is looked for in what is not there
    frame = _frame(arguments.frame, inputs)
    params = operations.parse_params(operation, _settings(operation, arguments.settings))
    file_keys = {path: recipe.file_key(as_one(path)) for paths in files.values() for path in paths}
    keys: dict[str, str | list[str]] = {
        name: [said[path].key(file_keys[path]) for path in paths] for name, paths in files.items()
    }
    step = operations.make_step(operation, params, keys, frame)
    _run(step, inputs, frame, out)
    if recipe_file:
        sources = {
            said[path].key(key): recipe.source(Path(path).name, key, said[path].to_dict(), "")
            for path, key in file_keys.items()
        }
        text = json.dumps(recipe.export(step.key, {step.key: step}, sources), indent=2)
        recipe_file.write_text(text + "\n", encoding="utf-8")


def cook(arguments: argparse.Namespace) -> None:
    result, steps, sources = recipe.load(arguments.recipe)
    folder = Path(arguments.files or Path(arguments.recipe).parent)
    out = new_file(arguments.out)
    assert out is not None
    made: dict[str, Held] = {}
    kept = tempfile.TemporaryDirectory(prefix="yama-")
    between = Path(kept.name)

    def get(key: str) -> Held:
        if key in made:
            return made[key]
        if key in sources:
            path = folder / Path(sources[key]["name"]).name
            if not path.exists():
                raise InputError(f"The recipe needs {path.name}; put it into {folder} or give --files FOLDER.")
            declared = Declared.from_dict(sources[key].get("declared", {}))
            if declared.key(recipe.file_key(as_one(str(path)))) != key:
                raise InputError(f"{path} is not the file the recipe was made from: its contents differ.")
            crs = sources[key].get("crs", "")
            looked_at(str(path), declared, frame_crs=crs)
            made[key] = formats.read(as_one(str(path)), declared, path.name, frame_crs=crs)
        elif key in steps:
            step = steps[key]
            found = _task(step, gathered(step), Frame.from_dict(step.frame or {})).run()
            made[key] = _written(found, between / f"{key}.laz") if isinstance(found, Reclassified) else found
        else:
            raise InputError(f"The recipe does not say how {key} is made.")
        return made[key]

    def gathered(step: Step) -> dict[str, Held | list[Held]]:
        return {name: [get(key) for key in keys] for name, keys in step.inputs.items()}

    if result not in steps:
        raise InputError("The recipe does not name its result.")
    last = steps[result]
    with kept:
        _run(last, gathered(last), Frame.from_dict(last.frame or {}), out)


def _written(made: Reclassified, path: Path) -> Held:
    """A cloud with its classes, as a file that the next step can read."""
    formats.write(made, path)
    return formats.read(path, Declared(crs=made.cloud.crs, unit=made.cloud.unit))
