"""`yama ops`: the operations and what may be set."""

from __future__ import annotations

import argparse
import json
from typing import Any

from yama.terrain import operations


def ops(arguments: argparse.Namespace) -> None:
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
        given = " ".join(
            f"--also {name}=FILE ({one['kind']})" if number else f"--out FILE ({one['kind']})"
            for number, (name, one) in enumerate(entry["outputs"].items())
        )
        print(f"{entry['name']:22}{entry['summary']}\n{'':22}{roles}\n{'':22}{given}")
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
    """What a parameter may be, in words: its choices, or its kind with bounds, unit and the methods that have it."""
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
    only = "".join(
        f"; with {other} {' or '.join(json.dumps(one).strip(chr(34)) for one in values)} only"
        for other, values in schema.get("only_with", {}).items()
    )
    return f"{' or '.join(dict.fromkeys(said))}{f', in {unit}' if unit else ''}{only}"
