"""`manage.py export_api`: write what the front end takes from the code, the API's description, the ramps and the quantities.

With --check nothing is written; it fails where a file is not what the code says.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from yama.service.api import api
from yama.terrain.quantities import QUANTITIES
from yama.terrain.ramps import RAMPS


def exported() -> dict[Path, str]:
    """Contents by path."""
    values = {
        settings.BASE_DIR / "yama" / "service" / "openapi.json": api.get_openapi_schema(),
        settings.BASE_DIR / "web" / "src" / "map" / "ramps.json": RAMPS,
        settings.BASE_DIR / "web" / "src" / "map" / "quantities.json": {
            name: vars(one) for name, one in QUANTITIES.items()
        },
    }
    return {path: json.dumps(value, indent=1, default=str) + "\n" for path, value in values.items()}


class Command(BaseCommand):
    """Writes or checks the files."""

    help = "Write the API's description and the ramps for the front end."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--check", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        for path, text in exported().items():
            if not options["check"]:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text, encoding="utf-8")
            elif not path.exists() or path.read_text(encoding="utf-8") != text:
                raise CommandError(f"{path} is not what the code says. Run: python manage.py export_api")
