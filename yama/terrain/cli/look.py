"""`yama inspect`, and how a file is looked at before it is used."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.cli.words import answers, declared_of, say
from yama.terrain.errors import InputError
from yama.terrain.findings import refuse
from yama.terrain.formats import Held
from yama.terrain.formats.declared import Declared


def looked_at(path: str, declared: Declared, crs: str = "", frame_crs: str = "") -> tuple[Declared, formats.Facts]:
    """A file read within limits: what is declared about it, with a CRS where it names none, and what it is."""
    if not Path(path).is_file():
        raise InputError(f"There is no file {path}.")
    declared, note = readers.placed_in(Path(path), declared, crs)
    say([note] if note else [])
    return declared, readers.inspect(Path(path), declared, "", frame_crs)


def read(path: str, declared: Declared, crs: str = "") -> tuple[Declared, Held]:
    """What a file holds, with its findings said."""
    declared, facts = looked_at(path, declared, crs)
    say(facts.findings)
    refuse(facts.findings)
    return declared, formats.read(path, declared)


def inspect(arguments: argparse.Namespace) -> None:
    """Say what a file is."""
    _, facts = looked_at(arguments.file, declared_of(arguments), arguments.crs)
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
        raise InputError(f"{facts.name} cannot be used as it is.{answers(error)}") from error
