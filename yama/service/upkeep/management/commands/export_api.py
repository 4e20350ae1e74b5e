"""`manage.py export_api`: write what the front end takes from the code.

That is the API's description, the operations, the ramps and the quantities.

With --check nothing is written; it fails where a file is not what the code says.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from yama.service.api import api
from yama.terrain import operations
from yama.terrain.quantities import QUANTITIES
from yama.terrain.ramps import RAMPS


def _described() -> dict[str, Any]:
    """The API's description. The parameters of each operation are among its schemas, for the front end to have their
    types."""
    described: dict[str, Any] = json.loads(json.dumps(api.get_openapi_schema(), default=str))
    schemas = described["components"]["schemas"]
    named = {}
    for name, operation in operations.catalogue().items():
        # what a value may be only together with another one is the catalogue's to say, not that of a type
        own = {key: value for key, value in operation.Params.described().items() if key != "oneOf"}
        parts = own.pop("$defs", {})
        title = f"{name.title().replace('_', '')}Params"
        text = json.dumps([own, parts])  # parts refer to one another too
        for part in parts:
            text = text.replace(f'"#/$defs/{part}"', f'"#/components/schemas/{title}{part}"')
        told, told_parts = json.loads(text)
        schemas |= {f"{title}{part}": schema for part, schema in told_parts.items()}
        schemas[title] = {**told, "required": list(own.get("properties", {}))}
        named[name] = {"$ref": f"#/components/schemas/{title}"}
    schemas["OperationParams"] = {"type": "object", "properties": named, "required": list(named)}
    return described


def exported() -> dict[Path, str]:
    """Contents by path."""
    values = {
        settings.BASE_DIR / "yama" / "service" / "openapi.json": _described(),
        settings.BASE_DIR / "web" / "src" / "api" / "operations.json": {
            name: operations.describe(operation) for name, operation in operations.catalogue().items()
        },
        settings.BASE_DIR / "web" / "src" / "map" / "ramps.json": RAMPS,
        settings.BASE_DIR / "web" / "src" / "map" / "quantities.json": {
            name: vars(one) for name, one in QUANTITIES.items()
        },
    }
    return {path: json.dumps(value, indent=1, default=str) + "\n" for path, value in values.items()}


class Command(BaseCommand):
    """Writes or checks the files."""

    help = "Write the API's description, operations, ramps and quantities for the front end."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--check", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        for path, text in exported().items():
            if not options["check"]:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text, encoding="utf-8")
            elif not path.exists() or path.read_text(encoding="utf-8") != text:
                raise CommandError(f"{path} is not what the code says. Run: python manage.py export_api")
