"""The few kinds of error the core raises. Each carries a sentence a technician can act on."""

from __future__ import annotations

from typing import Any


class TerrainError(Exception):
    """Something about the work cannot be done; `str(error)` says what, where and what to do."""


class InputError(TerrainError):
    """A file, a table or a parameter is unusable as given."""


class QuestionError(InputError):
    """A file does not say what must be known of it; `findings` are the questions, each with its answers."""

    def __init__(self, sentence: str, findings: list[Any]) -> None:
        super().__init__(sentence, findings)
        self.findings = findings

    def __str__(self) -> str:
        return str(self.args[0])


class GridError(TerrainError):
    """A grid is impossible, too large, or does not agree with another."""


class CancelledError(TerrainError):
    """The work was stopped on request; nothing was kept."""
