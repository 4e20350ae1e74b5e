"""Recipes: what made a holding, as data that can be hashed, exported and cooked again.

A node's key is the hash of operation, version, parameters, frame and input keys. A file's key is the hash of its
bytes. So the same step on the same inputs has the same key everywhere, and a holding with the same key is the
same holding.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yama.terrain.errors import InputError

FORMAT = "yama-recipe/1"


@dataclass(frozen=True)
class Step:
    """One operation on inputs named by their keys. `frame` is the frame it was built on, as a dict."""

    operation: str
    version: int
    params: dict[str, Any]
    inputs: dict[str, list[str]]
    frame: dict[str, Any] | None

    @property
    def key(self) -> str:
        """Hash of all of it: 32 hexadecimal digits."""
        text = json.dumps(vars(self), sort_keys=True, separators=(",", ":"), allow_nan=False)
        return hashlib.sha256(text.encode()).hexdigest()[:32]

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Step:
        """The inverse of `vars`."""
        try:
            return cls(data["operation"], data["version"], data["params"], data["inputs"], data.get("frame"))
        except (KeyError, TypeError) as error:
            raise InputError(f"A step of this recipe lacks {error}.") from error


def part_key(key: str, output: str, first: str) -> str:
    """The key of what an output of a step gave: the step's own for the first, with the output's name behind it for others.

    Examples
    --------
    >>> part_key("4f1c", "surface", first="surface"), part_key("4f1c", "source", first="surface")
    ('4f1c', '4f1c:source')
    """
    return key if output == first else f"{key}:{output}"


def parted(key: str) -> tuple[str, str]:
    """The step's key, and the name of the output where it is not the first; see `part_key`."""
    step, _, output = key.partition(":")
    return step, output


def file_key(path: str | Path) -> str:
    """Hash of a file's bytes: 32 hexadecimal digits."""
    with Path(path).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()[:32]


def source(name: str, file: str, declared: dict[str, Any], crs: str) -> dict[str, Any]:
    """What a recipe says of a file: its name, the key of its bytes, what was declared about it, and the CRS it was taken to be in where it
    names none.
    """
    return {"name": name, "file": file, "declared": declared, "crs": crs}


def export(result: str, steps: dict[str, Step], files: dict[str, dict[str, Any]]) -> dict[str, Any]:
    """A recipe as JSON values.

    Parameters
    ----------
    result : str
        The key of what it makes.
    steps : dict of Step
        Every step on the way there, by key.
    files : dict
        Every file it begins with, by key, each as `source` describes it.
    """
    return {
        "format": FORMAT,
        "result": result,
        "steps": {key: dict(vars(step)) for key, step in steps.items()},
        "files": files,
    }


def load(path: str | Path) -> tuple[str, dict[str, Step], dict[str, dict[str, Any]]]:
    """Read what `export` made. Raises InputError where it is not one or a step's key does not match it."""
    try:
        data = json.loads(Path(path).read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise InputError(f"{path} is not a readable recipe: {error}") from error
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise InputError(f"{path} is not a recipe of the kind {FORMAT}.")
    steps = {key: Step.from_dict(step) for key, step in data.get("steps", {}).items()}
    for key, step in steps.items():
        if step.key != key:
            raise InputError(f"Step {key} of {path} was changed after it was written; its key no longer matches.")
    return data.get("result", ""), steps, data.get("files", {})


def below(key: str, steps: Mapping[str, Step]) -> list[str]:
    """What was made from something, directly or not.

    Parameters
    ----------
    key : str
        Of what it was made from.
    steps : mapping of str to Step
        All steps there are, by key.

    Returns
    -------
    list of str
        Keys, each after those it was made from.
    """
    uses = {one: {source for keys in step.inputs.values() for source in keys} for one, step in steps.items()}
    reached = {key}
    grew = True
    while grew:
        more = {one for one, sources in uses.items() if one not in reached and sources & reached}
        grew = bool(more)
        reached |= more
    reached.discard(key)
    ordered: list[str] = []
    while len(ordered) < len(reached):
        ready = [
            one for one in steps if one in reached and one not in ordered and not (uses[one] & reached) - {*ordered}
        ]
        ordered += ready
    return ordered


def with_instead(step: Step, instead: Mapping[str, str], version: int) -> Step:
    """The same step on other inputs.

    Parameters
    ----------
    step : Step
        Unchanged by this.
    instead : mapping of str to str
        What stands in the place of a key; keys that are not in it stay.
    version : int
        Of the operation as it is now.
    """
    inputs = {role: [instead.get(key, key) for key in keys] for role, keys in step.inputs.items()}
    return Step(step.operation, version, step.params, inputs, step.frame)
