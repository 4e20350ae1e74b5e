"""`yama do` and `yama cook`: an operation on files, and a recipe made again."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pyproj import Transformer

from yama.terrain import formats, kinds, operations, recipe
from yama.terrain.cli.look import as_one, looked_at, read
from yama.terrain.cli.words import declared_of, new_file, say, value
from yama.terrain.cloud import Cloud, NewCloud
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame, propose
from yama.terrain.grid import Bounds, parse_crs
from yama.terrain.held import Held
from yama.terrain.operations import Inputs, Operation, Result, Results, Task, findings_of, task_of
from yama.terrain.points import Points
from yama.terrain.recipe import Step
from yama.terrain.scratch import Scratch
from yama.terrain.surface import Surface


def _frame(path: str | None, inputs: Inputs) -> Frame:
    if path:
        try:
            return Frame.from_dict(json.loads(Path(path).read_text(encoding="utf-8")))
        except (OSError, ValueError) as error:
            raise InputError(f"{path} is not a readable frame: {error}") from error
    every = list(inputs)
    surfaces = [held for held in every if isinstance(held, Surface)]
    if surfaces:
        return _over_all(surfaces)
    for kind in (Points, (Cloud, Features)):
        given = [kinds.extent_of(held, "the input") for held in every if isinstance(held, kind)]
        if given:
            return propose(given).frame
    raise InputError("Give --frame, or an input to take it from.")


def _of_file(name: str) -> Any:
    """A setting that is too long to be typed, from a JSON file; the text itself where there is no such file."""
    path = Path(name)
    if not path.is_file():
        return name
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except ValueError as error:
        raise InputError(f"{path} is no JSON: {error}.") from error


def _settings(operation: Operation[Any], given: list[tuple[str, str]]) -> dict[str, Any]:
    """Settings as they were typed; where a list is asked for, one value is a list of it, and words part at commas."""
    asked = operation.Params.model_json_schema().get("properties", {})
    found: dict[str, Any] = {}
    for name, text in given:
        said = _of_file(text) if text.endswith(".json") else value(text)
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


def _task(step: Step, inputs: Mapping[str, list[Held]]) -> tuple[Task, str]:
    """The task of a step and the output that its key names. Raises InputError where the operation computes otherwise by now than when
    the step was written."""
    operation = operations.find(step.operation)
    if operation.version != step.version:
        raise InputError(
            f"The recipe asks for {step.operation} version {step.version}; here it is {operation.version}."
        )
    return task_of(step, inputs)


def _write(results: Results, files: Mapping[str, Path], key: str, first: str) -> None:
    """Write outputs into files, and say what making them showed."""
    for name, path in files.items():
        kinds.write(results[name], path, tags={"RECIPE": recipe.part_key(key, name, first)})
        say(findings_of(results[name]))


def do(arguments: argparse.Namespace) -> None:
    operation = operations.find(arguments.operation)
    files: dict[str, list[str]] = {}
    for name, path in arguments.inputs:
        files.setdefault(name, []).append(path)
    out = new_file(arguments.out)
    also = {name: new_file(path) for name, path in arguments.also}
    recipe_file = new_file(arguments.recipe)
    assert out is not None
    held: dict[str, Held] = {}
    said: dict[str, Declared] = {}
    for path in dict.fromkeys(path for paths in files.values() for path in paths):
        said[path], held[path] = read(path, declared_of(arguments), arguments.crs)
    given = {name: [held[path] for path in paths] for name, paths in files.items()}
    inputs = Inputs(operation.title, operation.inputs, given)  # before a frame is looked for in what is not there
    frame = _frame(arguments.frame, inputs)
    task = Task(operation, given, _settings(operation, arguments.settings), frame)
    task.chosen(list(also))
    file_keys = {path: recipe.file_key(as_one(path)) for paths in files.values() for path in paths}
    keys: dict[str, str | list[str]] = {
        name: [said[path].key(file_keys[path]) for path in paths] for name, paths in files.items()
    }
    step = operations.make_step(operation, task.params, keys, frame)
    say(task.findings)
    outs = {operation.first: out, **{name: path for name, path in also.items() if path is not None}}
    _write(task.run(), outs, step.key, operation.first)
    if recipe_file:
        sources = {
            said[path].key(key): recipe.source(Path(path).name, key, said[path].to_dict(), "")
            for path, key in file_keys.items()
        }
        text = json.dumps(recipe.export(step.key, {step.key: step}, sources), indent=2)
        recipe_file.write_text(text + "\n", encoding="utf-8")


class _Kitchen:
    """Makes again what a recipe describes, each step once."""

    def __init__(self, steps: dict[str, Step], sources: dict[str, dict[str, Any]], folder: Path, between: Path) -> None:
        self._steps, self._sources, self._folder, self._between = steps, sources, folder, between
        self._files: dict[str, Held] = {}
        self._made: dict[str, tuple[Task, str, Results]] = {}

    def step(self, key: str) -> tuple[Task, str, Results]:
        """The task of a step, the output that its key names, and its results."""
        if key not in self._made:
            if key not in self._steps:
                raise InputError(f"The recipe does not say how {key} is made.")
            step = self._steps[key]
            task, first = _task(step, {name: [self._get(one) for one in keys] for name, keys in step.inputs.items()})
            self._made[key] = task, first, task.run()
        return self._made[key]

    def _get(self, key: str) -> Held:
        if key in self._sources:
            if key not in self._files:
                self._files[key] = self._file(key)
            return self._files[key]
        step, output = recipe.parted(key)
        _, first, results = self.step(step)
        found: Result = results[output or first]
        if not isinstance(found, NewCloud):
            return found
        if key not in self._files:  # the next step reads a file
            path = self._between / f"{key}.laz"
            kinds.write(found, path)
            self._files[key] = formats.read(path, Declared(crs=found.crs, unit=found.unit))
        return self._files[key]

    def _file(self, key: str) -> Held:
        source = self._sources[key]
        path = self._folder / Path(source["name"]).name
        if not path.exists():
            raise InputError(f"The recipe needs {path.name}; put it into {self._folder} or give --files FOLDER.")
        declared = Declared.from_dict(source.get("declared", {}))
        if declared.key(recipe.file_key(as_one(str(path)))) != key:
            raise InputError(f"{path} is not the file the recipe was made from: its contents differ.")
        crs = source.get("crs", "")
        looked_at(str(path), declared, frame_crs=crs)
        return formats.read(as_one(str(path)), declared, path.name, frame_crs=crs)


def cook(arguments: argparse.Namespace) -> None:
    result, steps, sources = recipe.load(arguments.recipe)
    folder = Path(arguments.files or Path(arguments.recipe).parent)
    out = new_file(arguments.out)
    assert out is not None
    key, output = recipe.parted(result)
    if key not in steps:
        raise InputError("The recipe does not name its result.")
    with Scratch("yama-") as between:
        task, first, results = _Kitchen(steps, sources, folder, between).step(key)
        say(task.findings)
        _write(results, {output or first: out}, key, first)
