"""Conditions on attributes, as people write them: which features are meant.

    width > 3 and (kind = river or name contains "Avel")

A column, a sign and a value; `and`, `or`, `not` and brackets around them. Signs are = != < <= > >=, `contains`, and
`is empty`, which takes no value. A column or a value that holds a word of the language stands in quotes. Numbers may
have a decimal comma; a number is compared with a column of numbers as a number, and everything else as text. The desk
reads the same language.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.features import Value

SIGNS = ("<=", ">=", "!=", "=", "<", ">", "contains", "is empty")
MOST_CHARACTERS = 2_000
MOST_NESTED = 50
_TEST = {
    "<": lambda sign: sign < 0,
    ">": lambda sign: sign > 0,
    "<=": lambda sign: sign <= 0,
    ">=": lambda sign: sign >= 0,
}

Row = Mapping[str, Value]
Test = Callable[[Row], bool]


class ConditionError(InputError):
    """What is wrong with a condition, and at which letter, counted from 1."""

    def __init__(self, sentence: str, at: int) -> None:
        super().__init__(f"{sentence} (at letter {at}).")
        self.at = at


def _text(value: Value) -> str:
    """A value as it is written: empty where there is none, whole numbers without decimals."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:.15g}" if isinstance(value, float) else str(value)


def _number(text: str) -> float | None:
    try:
        found = float(text.replace(",", "."))
    except ValueError:
        return None
    return found if np.isfinite(found) else None


def _compared(column: str, sign: str, wanted: str, quoted: bool) -> Test:
    number = None if quoted else _number(wanted)

    def is_number(held: Value) -> bool:
        return isinstance(held, (int, float)) and not isinstance(held, bool)

    def equal(row: Row) -> bool:
        held = row[column]
        return held == number if number is not None and is_number(held) else _text(held) == wanted

    def ordered(row: Row) -> bool:
        held = row[column]
        if held is None or held == "":
            return False
        if number is not None:
            return is_number(held) and _TEST[sign](float(held) - number)
        text = _text(held)
        return bool(_TEST[sign]((text > wanted) - (text < wanted)))

    match sign:
        case "=":
            return equal
        case "!=":
            return lambda row: not equal(row)
        case "contains":
            return lambda row: wanted.lower() in _text(row[column]).lower()
        case "is empty":
            return lambda row: _text(row[column]) == ""
    return ordered


class _Reader:
    """Reads a text from its beginning, one thing after the other."""

    def __init__(self, text: str, columns: Sequence[str]) -> None:
        self.text, self.columns, self.at, self.depth = text, columns, 0, 0

    def skip(self) -> None:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1

    def word(self, wanted: str) -> bool:
        self.skip()
        pattern = re.escape(wanted) + (r"(?!\w)" if wanted[-1].isalpha() else "")
        found = re.compile(pattern, re.IGNORECASE).match(self.text, self.at)
        if found:
            self.at = found.end()
        return found is not None

    def quoted(self) -> str | None:
        found = re.compile(r"""(["'])(.*?)\1""", re.DOTALL).match(self.text, self.at)
        if not found:
            return None
        self.at = found.end()
        return found[2]

    def column(self) -> str:
        self.skip()
        start = self.at
        named = self.quoted()
        if named is not None and named in self.columns:
            return named
        for one in sorted(self.columns, key=len, reverse=True):
            end = start + len(one)
            after = self.text[end : end + 1]
            if self.text[start:end].lower() == one.lower() and not (after.isalnum() or after == "_"):
                self.at = end
                return one
        given = re.compile(r"[^\s=<>!()]+").match(self.text, start)
        raise ConditionError(
            f"There is no column {given[0] if given else 'nothing'}; there are: {', '.join(self.columns)}", start + 1
        )

    def comparison(self) -> Test:
        name = self.column()
        self.skip()
        start = self.at
        sign = next((one for one in SIGNS if self.word(one)), None)
        if sign is None:
            raise ConditionError(f"After {name} comes one of {' '.join(SIGNS)}", start + 1)
        if sign == "is empty":
            return _compared(name, sign, "", True)
        self.skip()
        start = self.at
        text = self.quoted()
        if text is not None:
            return _compared(name, sign, text, True)
        found = re.compile(r".*?(?=\s+(?:and|or)\s|\)|$)", re.IGNORECASE).match(self.text, self.at)
        bare = found[0] if found else ""
        self.at += len(bare)
        if not bare.strip():
            raise ConditionError(f"A value is missing after {sign}", start + 1)
        return _compared(name, sign, bare.strip(), False)

    def single(self) -> Test:
        self.depth += 1
        if self.depth > MOST_NESTED:
            raise ConditionError(f"More than {MOST_NESTED} brackets and nots stand in each other", self.at + 1)
        try:
            if self.word("not"):
                inner = self.single()
                return lambda row: not inner(row)
            if not self.word("("):
                return self.comparison()
            inside = self.either()
            if not self.word(")"):
                raise ConditionError("A bracket is not closed", self.at + 1)
            return inside
        finally:
            self.depth -= 1

    def both(self) -> Test:
        parts = [self.single()]
        while self.word("and"):
            parts.append(self.single())
        return lambda row: all(part(row) for part in parts)

    def either(self) -> Test:
        parts = [self.both()]
        while self.word("or"):
            parts.append(self.both())
        return lambda row: any(part(row) for part in parts)


def condition(text: str, columns: Sequence[str]) -> Test:
    """The test that a condition makes of a row of attributes.

    Parameters
    ----------
    text : str
        The condition.
    columns : sequence of str
        Names of the columns that there are. Case does not matter in the condition.

    Returns
    -------
    callable
        Whether a row, a mapping from column to value, meets it.

    Raises
    ------
    ConditionError
        Where it cannot be read, with the letter at which it went wrong.

    Examples
    --------
    >>> test = condition("width >= 2,5 and kind = river", ["kind", "width"])
    >>> test({"kind": "river", "width": 6}), test({"kind": "river", "width": None})
    (True, False)
    """
    if len(text) > MOST_CHARACTERS:
        raise ConditionError(f"The condition is longer than {MOST_CHARACTERS} letters", MOST_CHARACTERS + 1)
    reader = _Reader(text, columns)
    made = reader.either()
    reader.skip()
    if reader.at < len(text):
        raise ConditionError(f"{text[reader.at : reader.at + 12]} is not understood", reader.at + 1)
    return made


def meeting(text: str, attributes: Mapping[str, Sequence[Value]], count: int) -> npt.NDArray[np.bool_]:
    """Which of `count` features meet a condition, shape (count,); attributes are columns as `Features` holds them."""
    test = condition(text, list(attributes))
    return np.array([test({name: values[i] for name, values in attributes.items()}) for i in range(count)], np.bool_)
