"""Libraries that are loaded when they are first needed: most commands and most processes need few of them."""

from __future__ import annotations

import importlib
from typing import Any


class _Later:
    """Stands for a module; whatever is asked of it is asked of the module, which is loaded then."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, attribute: str) -> Any:
        module = importlib.import_module(self._name)
        try:
            found = getattr(module, attribute)
        except AttributeError:
            if attribute.startswith("__"):
                raise
            found = importlib.import_module(
                f"{self._name}.{attribute}"
            )  # a part that the module does not load by itself
        self.__dict__[attribute] = found
        return found


def later(name: str) -> Any:
    """A library by its name, loaded when something of it is first used."""
    return _Later(name)
