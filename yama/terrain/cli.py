"""The command line: `yama ops`, `yama inspect`, `yama do`, `yama cook`. No server is needed.

Exit status: 0 done, 1 the work cannot be done (a sentence on standard error says why), 2 wrong usage.
"""

from __future__ import annotations

import argparse
import json
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pyproj import Transformer

from yama.terrain import formats, operations, recipe
from yama.terrain.allocation import keep_freed_memory
from yama.terrain.cloud import Cloud, Reclassified
from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.features import Features
from yama.terrain.findings import Finding, refuse
from yama.terrain.formats import Held
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Extent, Frame, extent_of_points, propose
from yama.terrain.grid import Bounds, metres_per_unit, parse_crs
from yama.terrain.operations.base import Inputs
from yama.terrain.points import Points
from yama.terrain.recipe import Step
from yama.terrain.surface import Surface


def _pair(text: str) -> tuple[str, str]:
    name, sign, value = text.partition("=")
    if not (name and sign):
        raise argparse.ArgumentTypeError(f"{text!r} is not NAME=VALUE")
    return name, value


_LISTED = re.compile(r"[-+]?[\d.]+(e[-+]?\d+)?(,[-+]?[\d.]+(e[-+]?\d+)?)+", re.IGNORECASE)


def _value(text: str) -> Any:
    """A setting as JSON, or as numbers with commas between them; else the text itself."""
    try:
        return json.loads(f"[{text}]" if _LISTED.fullmatch(text) else text)
    except ValueError:
        return text


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
    points = [extent_of_points(held) for held in every if isinstance(held, Points)]
    if points:
        return propose(points).frame
    others = [Extent(held.name, held.crs, held.bounds, _spacing(held)) for held in every if isinstance(held, Cloud)]
    others += [Extent("the input", held.crs, held.bounds) for held in every if isinstance(held, Features)]
    if others:
        return propose(others).frame
    raise InputError("Give --frame, or an input to take it from.")


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
    _say(
        [
            Finding(
                "frame",
                "note",
                f"No --frame was given: the cells of the first input, over all {len(surfaces)} of them.",
            )
        ]
    )
    return Frame(grid.part(window), first.unit, first.vertical_datum)


def _spacing(cloud: Cloud) -> float:
    box = cloud.bounds
    across, up = metres_per_unit(cloud.crs, *box.middle)
    return float(((box.east - box.west) * across * (box.north - box.south) * up / max(cloud.count, 1)) ** 0.5)


def _ops(arguments: argparse.Namespace) -> None:
    chosen = [operations.find(arguments.name)] if arguments.name else list(operations.catalogue().values())
    listed = [operations.describe(operation) for operation in chosen]
    if arguments.json:
        print(json.dumps(listed, indent=2))
        return
    for entry in listed:
        roles = " ".join(
            f"--in {name}=FILE{' ...' if role['many'] else ''}{' (or none)' if role['optional'] else ''}"
            for name, role in entry["inputs"].items()
        )
        print(f"{entry['name']:22}{entry['summary']}\n{'':22}{roles}")
        for name, schema in entry["params"].get("properties", {}).items():
            if not arguments.name:
                print(f"{'':22}--set {name}={schema.get('default')}  {schema.get('description', '')}".rstrip())
                continue
            print(
                f"{'':22}--set {name}={json.dumps(schema.get('default'), ensure_ascii=False)}  {_allowed(schema)}".rstrip()
            )
            if schema.get("description"):
                print(f"{'':26}{schema['description']}")


def _allowed(schema: dict[str, Any]) -> str:
    """What a parameter may be, in words: its choices, or its kind with bounds and unit."""
    options = [one for one in schema.get("anyOf", [schema]) if one.get("type") != "null"]
    said = []
    for one in options:
        if "enum" in one or "const" in one:
            said.append(" | ".join(str(value) for value in one.get("enum", [one.get("const")])))
            continue
        limits = (("minimum", "from"), ("exclusiveMinimum", "above"), ("maximum", "to"), ("exclusiveMaximum", "below"))
        bounds = " ".join(f"{word} {one[key]:g}" for key, word in limits if key in one)
        kind = {"array": "list", "integer": "whole number", "object": "as JSON"}.get(
            one.get("type", ""), one.get("type", "any")
        )
        said.append(f"{kind} {bounds}".strip())
    unit = schema.get("unit")
    return f"{' or '.join(dict.fromkeys(said))}{f', in {unit}' if unit else ''}"


def _declared(arguments: argparse.Namespace) -> Declared:
    return Declared.from_dict({name: _value(text) for name, text in arguments.declared})


def _inspect(arguments: argparse.Namespace) -> None:
    declared, note = formats.placed_in(arguments.file, _declared(arguments), arguments.crs)
    _say([note] if note else [])
    facts = formats.inspect(arguments.file, declared)
    if arguments.json:
        print(json.dumps(facts.to_dict(), indent=2))
    else:
        for name, value in facts.to_dict().items():
            if name not in ("findings", "first_rows"):
                plain = json.dumps(value, ensure_ascii=False) if isinstance(value, (dict, list)) else value
                print(f"{name:10} {plain}")
        for finding in facts.findings:
            print(f"{finding.weight}: {finding.sentence} {finding.why}".rstrip())
    try:
        refuse(facts.findings)
    except InputError as error:
        raise InputError(f"{facts.name} cannot be used as it is.{_answers(error)}") from error


def _say(findings: list[Finding]) -> None:
    """Say findings but for stops, which are the error that follows."""
    for finding in findings:
        if finding.weight == "stop":
            continue
        print(f"{finding.weight}: {finding.sentence} {finding.why}".rstrip(), file=sys.stderr)


def _run(step: Step, inputs: Inputs, frame: Frame, out: Path) -> None:
    operation = operations.find(step.operation)
    if operation.version != step.version:
        raise InputError(
            f"The recipe asks for {step.operation} version {step.version}; here it is {operation.version}."
        )
    taken = operations.take_inputs(operation, inputs)
    params = operations.parse_params(operation, step.params)
    task = operations.Task(operation, taken, params, frame)
    _say(task.check())
    result = task.run()
    if isinstance(result, (Surface, Features, Reclassified)):
        formats.write(result, out, tags={"RECIPE": step.key})
        _say(task.found(result))
    else:
        out.write_text(json.dumps(result, indent=2) + "\n", encoding="utf-8")


def _do(arguments: argparse.Namespace) -> None:
    operation = operations.find(arguments.operation)
    files: dict[str, list[str]] = {}
    for name, path in arguments.inputs:
        files.setdefault(name, []).append(path)
    said: dict[str, Declared] = {}
    for path in dict.fromkeys(path for paths in files.values() for path in paths):
        said[path], note = formats.placed_in(path, _declared(arguments), arguments.crs)
        _say([*([note] if note else []), *formats.inspect(path, said[path]).findings])
    inputs: dict[str, Held | list[Held]] = {
        name: [formats.read(path, said[path]) for path in paths] for name, paths in files.items()
    }
    operations.take_inputs(operation, inputs)  # before a frame is looked for in what is not there
    frame = _frame(arguments.frame, inputs)
    out = Path(arguments.out)
    if out.exists():
        raise InputError(f"{out} exists already and is not overwritten. Choose another name.")
    params = operations.parse_params(operation, {name: _value(text) for name, text in arguments.settings})
    file_keys = {path: recipe.file_key(path) for paths in files.values() for path in paths}
    keys: dict[str, str | list[str]] = {
        name: [said[path].key(file_keys[path]) for path in paths] for name, paths in files.items()
    }
    step = operations.make_step(operation, params, keys, frame)
    _run(step, inputs, frame, out)
    if arguments.recipe:
        sources = {
            said[path].key(key): recipe.source(Path(path).name, key, said[path].to_dict(), "")
            for path, key in file_keys.items()
        }
        text = json.dumps(recipe.export(step.key, {step.key: step}, sources), indent=2)
        Path(arguments.recipe).write_text(text + "\n", encoding="utf-8")


def _cook(arguments: argparse.Namespace) -> None:
    result, steps, sources = recipe.load(arguments.recipe)
    folder = Path(arguments.files or Path(arguments.recipe).parent)
    out = Path(arguments.out)
    if out.exists():
        raise InputError(f"{out} exists already and is not overwritten. Choose another name.")
    made: dict[str, Held] = {}

    def get(key: str) -> Held:
        if key in made:
            return made[key]
        if key in sources:
            path = folder / Path(sources[key]["name"]).name
            if not path.exists():
                raise InputError(f"The recipe needs {path.name}; put it into {folder} or give --files FOLDER.")
            declared = Declared.from_dict(sources[key].get("declared", {}))
            if declared.key(recipe.file_key(path)) != key:
                raise InputError(f"{path} is not the file the recipe was made from: its contents differ.")
            made[key] = formats.read(path, declared, frame_crs=sources[key].get("crs", ""))
        elif key in steps:
            step = steps[key]
            operation = operations.find(step.operation)
            taken = operations.take_inputs(operation, gathered(step))
            params = operations.parse_params(operation, step.params)
            made[key] = operations.Task(operation, taken, params, Frame.from_dict(step.frame or {})).run()
        else:
            raise InputError(f"The recipe does not say how {key} is made.")
        return made[key]

    def gathered(step: Step) -> dict[str, Held | list[Held]]:
        return {name: [get(key) for key in keys] for name, keys in step.inputs.items()}

    if result not in steps:
        raise InputError("The recipe does not name its result.")
    last = steps[result]
    _run(last, gathered(last), Frame.from_dict(last.frame or {}), out)


def parser() -> argparse.ArgumentParser:
    """The commands and their arguments."""
    top = argparse.ArgumentParser(prog="yama", description="Build and judge elevation surfaces.")
    commands = top.add_subparsers(dest="command", required=True)
    ops = commands.add_parser("ops", help="list operations and their parameters")
    ops.add_argument("name", nargs="?", default="", help="of one operation, to see what each parameter may be")
    ops.add_argument("--json", action="store_true")
    ops.set_defaults(run=_ops)
    look = commands.add_parser("inspect", help="say what a file is and what is wrong with it")
    look.add_argument("file")
    look.add_argument("--json", action="store_true")
    look.add_argument("--crs", default="", help="CRS of a table or drawing that names none")
    look.add_argument("--declare", dest="declared", action="append", default=[], type=_pair, metavar="NAME=VALUE",
                      help="say what the file does not: crs, unit, nodata, swap, leave_out, layer")  # fmt: skip
    look.set_defaults(run=_inspect)
    do = commands.add_parser("do", help="run one operation on files")
    do.add_argument("operation")
    do.add_argument("--in", dest="inputs", action="append", default=[], type=_pair, metavar="ROLE=FILE")
    do.add_argument("--set", dest="settings", action="append", default=[], type=_pair, metavar="NAME=VALUE")
    do.add_argument("--frame", metavar="FRAME.json", help="the grid to build on; taken from the inputs if left out")
    do.add_argument("--crs", default="", help="CRS of tables and drawings that name none")
    do.add_argument("--declare", dest="declared", action="append", default=[], type=_pair, metavar="NAME=VALUE")
    do.add_argument("--out", required=True)
    do.add_argument("--recipe", metavar="RECIPE.json", help="write down how the result was made")
    do.set_defaults(run=_do)
    cook = commands.add_parser("cook", help="make again what a recipe describes")
    cook.add_argument("recipe")
    cook.add_argument("--files", metavar="FOLDER", help="where the source files are; beside the recipe if left out")
    cook.add_argument("--out", required=True)
    cook.set_defaults(run=_cook)
    return top


def _answers(error: TerrainError) -> str:
    """How a question is answered here."""
    if not isinstance(error, QuestionError):
        return ""
    words = [
        f"--declare {name}={value or 'EPSG:CODE'}"
        for finding in error.findings for answer in finding.answers for name, value in answer.set_params.items()
    ]  # fmt: skip
    return f" Say it with {' or '.join(words)}."


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit status."""
    arguments = parser().parse_args(argv)
    keep_freed_memory()
    try:
        arguments.run(arguments)
    except TerrainError as error:
        print(f"yama: {error}{_answers(error)}", file=sys.stderr)
        return 1
    except OSError as error:
        print(f"yama: {error.filename or ''}: {error.strerror or error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
