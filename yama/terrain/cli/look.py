"""`yama inspect`, and how a file is looked at before it is used."""

from __future__ import annotations

import argparse
import json
import tempfile
from pathlib import Path

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.cli.words import answers, declared_of, say, told
from yama.terrain.errors import InputError
from yama.terrain.findings import refuse
from yama.terrain.formats import archive
from yama.terrain.formats.declared import Declared
from yama.terrain.held import Held

_PARTS = (".shp", ".shx", ".dbf", ".prj", ".cpg")
_packed = tempfile.TemporaryDirectory(prefix="yama-", ignore_cleanup_errors=True)
"""Where loose shapefiles are put together."""


def as_one(path: str) -> Path:
    """A file as it can be read: the parts of a shapefile that lie beside its .shp, put into one zip."""
    given = Path(path)
    if not given.is_file():
        raise InputError(f"There is no file {path}.")
    if given.suffix.lower() != ".shp":
        return given
    parts = sorted(one for one in given.parent.iterdir() if one.stem == given.stem and one.suffix.lower() in _PARTS)
    made = Path(_packed.name) / given.stem
    if not made.exists():
        archive.packed(parts, made)
    return made


def looked_at(path: str, declared: Declared, crs: str = "", frame_crs: str = "") -> tuple[Declared, formats.Facts]:
    """A file read within limits: what is declared about it, with a CRS where it names none, and what it is."""
    one = as_one(path)
    declared, note = readers.placed_in(one, declared, crs)
    say([note] if note else [])
    return declared, readers.inspect(one, declared, Path(path).name, frame_crs)


def read(path: str, declared: Declared, crs: str = "") -> tuple[Declared, Held]:
    """What a file holds, with its findings said."""
    declared, facts = looked_at(path, declared, crs)
    say(facts.findings, "--declare")
    refuse(facts.findings)
    return declared, formats.read(as_one(path), declared, Path(path).name)


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
            print(told(finding, "--declare"))
    try:
        refuse(facts.findings)
    except InputError as error:
        raise InputError(f"{facts.name} cannot be used as it is.{answers(error)}") from error
