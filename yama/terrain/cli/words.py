"""What is typed and what is said."""

from __future__ import annotations

import argparse
import json
import re
import sys
from pathlib import Path
from typing import Any

from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.findings import Finding
from yama.terrain.formats.declared import Declared, is_kind


def pair(text: str) -> tuple[str, str]:
    name, sign, value = text.partition("=")
    if not (name and sign):
        raise argparse.ArgumentTypeError(f"{text!r} is not NAME=VALUE")
    return name, value


_LISTED = re.compile(r"[-+]?[\d.]+(e[-+]?\d+)?(,[-+]?[\d.]+(e[-+]?\d+)?)+", re.IGNORECASE)


def value(text: str) -> Any:
    """A setting as JSON, or as numbers with commas between them; else the text itself."""
    try:
        return json.loads(f"[{text}]" if _LISTED.fullmatch(text) else text)
    except ValueError:
        return text


def declared_of(arguments: argparse.Namespace) -> Declared:
    """What `--declare` says."""
    said: dict[str, Any] = {}
    for name, text in arguments.declared:
        found = value(text)
        said[name] = found if is_kind(name, found) else text  # a layer may be called 3
    return Declared.from_dict(said)


def told(finding: Finding, option: str) -> str:
    """A finding in a line, with its mend as the option that does it."""
    fix = finding.fix.set_params if finding.fix else {}
    words = " ".join(f"{option} {name}={typed(one)}" for name, one in fix.items() if one is not None)
    return f"{finding.weight}: {finding.sentence} {finding.why}".rstrip() + (f" ({words})" if words else "")


def typed(one: Any) -> str:
    """A value as it is typed behind `NAME=`."""
    if isinstance(one, list) and all(isinstance(each, (int, float)) for each in one):
        return ",".join(f"{each:.10g}" for each in one)
    return one if isinstance(one, str) else json.dumps(one)


def say(findings: list[Finding], option: str = "--set") -> None:
    """Say findings but for stops, which are the error that follows. option: by which a fix is done."""
    for finding in findings:
        if finding.weight != "stop":
            print(told(finding, option), file=sys.stderr)


def answers(error: TerrainError) -> str:
    """How a question is answered here."""
    if not isinstance(error, QuestionError):
        return ""
    words = [
        f"--declare {name}={value or ('ZOOM/COLUMN/ROW' if name == 'tile' else 'EPSG:CODE')}"
        for finding in error.findings for answer in finding.answers for name, value in answer.set_params.items()
    ]  # fmt: skip
    return f" Say it with {' or '.join(words)}."


def _numbers(text: str) -> tuple[float, ...]:
    try:
        return tuple(float(part) for part in text.split(","))
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not numbers with commas between them") from error


def box(text: str) -> tuple[float, ...]:
    """West, south, east and north."""
    found = _numbers(text)
    if len(found) != 4 or found[0] >= found[2] or found[1] >= found[3]:
        raise argparse.ArgumentTypeError(f"{text!r} is not west, south, east, north")
    return found


def line(text: str) -> list[tuple[float, ...]]:
    """Corners x,y with blanks between them."""
    found = [_numbers(part) for part in text.replace(";", " ").split()]
    if len(found) < 2 or any(len(place) != 2 for place in found):
        raise argparse.ArgumentTypeError(
            f'{text!r} is not a line of two corners or more, such as "448000,5438000 448900,5438400"'
        )
    return found


def new_file(name: str | None) -> Path | None:
    """A file to be written, which must not be there yet."""
    if not name:
        return None
    if Path(name).exists():
        raise InputError(f"{name} exists already and is not overwritten. Choose another name.")
    return Path(name)
