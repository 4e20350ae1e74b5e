"""What every part of the API answers with."""

from __future__ import annotations

from typing import Any, Literal

from ninja import Schema


class Failure(Schema):
    """Why something was refused."""

    detail: str


class FixOut(Schema):
    """A button beside a finding: pressing it sets these parameters."""

    label: str
    set_params: dict[str, Any]


class FindingOut(Schema):
    """A checked fact with its weight."""

    code: str
    weight: Literal["note", "caution", "stop"]
    sentence: str
    why: str
    fix: FixOut | None
    places: list[tuple[float, float]]
    answers: list[FixOut] = []


class ColumnOut(Schema):
    """A column of a table."""

    name: str
    title: str
    unit: str
    type: Literal["number", "whole", "text", "yes_no"]
    decimals: int | None


class TableOut(Schema):
    """A table: rows with a value a column, null where there is none, and facts about all of them."""

    columns: list[ColumnOut]
    rows: list[list[str | float | int | bool | None]]
    facts: dict[str, Any]
