"""Arithmetic on surfaces: a small language of its own, parsed and never handed to the interpreter.

    where(a - b > 2 and not isempty(c), c, a)

Numbers, names of surfaces, brackets; + - * / (also × ÷ and the true minus); < <= > >= = !=; and, or, not; and the
functions of `FUNCTIONS`. What is true is 1, what is false 0. A cell is empty where anything it is computed from is empty, but for
`isempty`, which never is, and `where`, which looks at the side it takes only. So is a cell divided by 0, and the logarithm or
root of what has none. Precedence, from loose to tight: or, and, not, comparisons, + -, * /, sign. Top-down operator precedence
after V. R. Pratt, Principles of Programming Languages, 1973.
"""

from __future__ import annotations

import math
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.kernels import kernel
from yama.terrain.median import circle, median_around

Cells = npt.NDArray[np.float64]
MOST_NESTED = 100
MOST_CHARACTERS = 4_000
MOST_AROUND = 100
"""Cells from the middle of a neighbourhood to its edge, at most."""

_TOKEN = re.compile(
    r"\s*(?:(\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+)|([^\W\d]\w*)|(<=|>=|!=|<>|==|[-+*/()<>=,\u2212\u00d7\u00f7]))"
)
_SAME = {"\u2212": "-", "\u00d7": "*", "\u00f7": "/", "<>": "!=", "==": "="}
_WORDS = ("and", "or", "not")


class ExpressionError(InputError):
    """What is wrong with an expression, and at which column, counted from 1."""

    def __init__(self, sentence: str, column: int) -> None:
        super().__init__(f"{sentence[:-1]}, at column {column}.")
        self.column = column


@dataclass(frozen=True)
class _Token:
    kind: str  # number, name, sign, end
    text: str
    column: int


def _tokens(text: str) -> list[_Token]:
    if len(text) > MOST_CHARACTERS:
        raise ExpressionError(f"The expression is longer than {MOST_CHARACTERS} characters.", MOST_CHARACTERS + 1)
    found, at = [], 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if match is None:
            column = at + len(text[at:]) - len(text[at:].lstrip()) + 1
            raise ExpressionError(f"{text[column - 1]!r} has no meaning here.", column)
        number, name, sign = match.groups()
        kind, what = ("number", number) if number else ("name", name) if name else ("sign", _SAME.get(sign, sign))
        if kind == "name" and what.lower() in _WORDS:
            kind, what = "sign", what.lower()
        found.append(_Token(kind, what, match.end() - len(match.group().lstrip()) + 1))
        at = match.end()
    found.append(_Token("end", "the end", len(text) + 1))
    return found


# -- what is computed --------------------------------------------------------------------------------------


class Node(ABC):
    """A part of an expression."""

    @abstractmethod
    def halo(self, cell: float) -> int:
        """Cells around a window that it looks at, `cell` metres wide each."""

    @abstractmethod
    def value(self, arrays: Mapping[str, Cells], cell: float) -> Cells:
        """Its cells, NaN where empty, from those of the surfaces, all of one shape (halo and all)."""


@dataclass(frozen=True)
class _Number(Node):
    number: float

    def halo(self, cell: float) -> int:
        return 0

    def value(self, arrays: Mapping[str, Cells], cell: float) -> Cells:
        return np.full(next(iter(arrays.values())).shape, self.number)


@dataclass(frozen=True)
class _Name(Node):
    name: str

    def halo(self, cell: float) -> int:
        return 0

    def value(self, arrays: Mapping[str, Cells], cell: float) -> Cells:
        return arrays[self.name]


def _where_filled(found: Any, *given: Cells) -> Cells:
    """A result, empty where anything given is."""
    result = np.array(found, np.float64)
    for one in given:
        result[np.isnan(one)] = np.nan
    return result


def _divided(a: Cells, b: Cells) -> Cells:
    result: Cells = np.divide(a, b, out=np.full(a.shape, np.nan), where=b != 0)
    return result


def _logarithm(a: Cells) -> Cells:
    result: Cells = np.log(a, out=np.full(a.shape, np.nan), where=a > 0)
    return result


def _root(a: Cells) -> Cells:
    result: Cells = np.sqrt(a, out=np.full(a.shape, np.nan), where=a >= 0)
    return result


_PLAIN: dict[str, Callable[..., Any]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
    "/": _divided,
    "<": lambda a, b: _where_filled(a < b, a, b),
    "<=": lambda a, b: _where_filled(a <= b, a, b),
    ">": lambda a, b: _where_filled(a > b, a, b),
    ">=": lambda a, b: _where_filled(a >= b, a, b),
    "=": lambda a, b: _where_filled(a == b, a, b),
    "!=": lambda a, b: _where_filled(a != b, a, b),
    "and": lambda a, b: _where_filled((a != 0) & (b != 0), a, b),
    "or": lambda a, b: _where_filled((a != 0) | (b != 0), a, b),
    "not": lambda a: _where_filled(a == 0, a),
    "sign": lambda a: -a,
    "abs": np.abs,
    "sqrt": _root,
    "log": _logarithm,
    "min": lambda *given: np.minimum.reduce(given),
    "max": lambda *given: np.maximum.reduce(given),
    "where": lambda c, a, b: np.where(np.isnan(c), np.nan, np.where(c != 0, a, b)),
    "isempty": lambda a: np.isnan(a).astype(np.float64),
}


@dataclass(frozen=True)
class _Plain(Node):
    """Something done to the same cell of each of its parts."""

    name: str
    parts: tuple[Node, ...]

    def halo(self, cell: float) -> int:
        return max(part.halo(cell) for part in self.parts)

    def value(self, arrays: Mapping[str, Cells], cell: float) -> Cells:
        with np.errstate(over="ignore", invalid="ignore"):
            found = np.asarray(_PLAIN[self.name](*(part.value(arrays, cell) for part in self.parts)), np.float64)
        return np.where(np.isfinite(found), found, np.nan)


@kernel
def _around(cells, reach, limit, what, result):
    """Mean (0), lowest (1), highest (2) or standard deviation (3) of the filled cells within a circle; empty where the middle is."""
    rows, cols = cells.shape
    for r in range(rows):
        for c in range(cols):
            result[r, c] = np.nan
            if np.isnan(cells[r, c]):
                continue
            count = 0
            total = 0.0
            squares = 0.0
            low = np.inf
            high = -np.inf
            middle = cells[r, c]
            for i in range(max(r - reach, 0), min(r + reach + 1, rows)):
                for j in range(max(c - reach, 0), min(c + reach + 1, cols)):
                    if (i - r) * (i - r) + (j - c) * (j - c) > limit or np.isnan(cells[i, j]):
                        continue
                    value = cells[i, j] - middle
                    count += 1
                    total += value
                    squares += value * value
                    low = min(low, value)
                    high = max(high, value)
            if what == 0:
                result[r, c] = middle + total / count
            elif what == 1:
                result[r, c] = middle + low
            elif what == 2:
                result[r, c] = middle + high
            else:
                result[r, c] = np.sqrt(max(squares / count - (total / count) ** 2, 0.0))


_FOCAL = {"mean_around": 0, "min_around": 1, "max_around": 2, "std_around": 3, "median_around": 4}


@dataclass(frozen=True)
class _Focal(Node):
    """A figure of the cells within so many metres."""

    name: str
    part: Node
    metres: float

    def _cells(self, cell: float) -> float:
        return self.metres / cell

    def halo(self, cell: float) -> int:
        return self.part.halo(cell) + math.floor(self._cells(cell) + 1e-9)

    def value(self, arrays: Mapping[str, Cells], cell: float) -> Cells:
        cells = np.ascontiguousarray(self.part.value(arrays, cell))
        wide = self._cells(cell) + 1e-9
        result = np.empty(cells.shape)
        if self.name == "median_around":
            median_around(cells, circle(wide), result)
        else:
            _around(cells, math.floor(wide), wide**2, _FOCAL[self.name], result)
        return result


FUNCTIONS = {
    "where": (3, 3, "where(condition, then, else)"),
    "min": (2, 26, "min(a, b, ...)"),
    "max": (2, 26, "max(a, b, ...)"),
    "abs": (1, 1, "abs(a)"),
    "sqrt": (1, 1, "sqrt(a)"),
    "log": (1, 1, "log(a), the natural one"),
    "isempty": (1, 1, "isempty(a)"),
    **{name: (2, 2, f"{name}(a, metres)") for name in _FOCAL},
}
"""Fewest and most arguments of each function, and how it is written."""

# -- reading -----------------------------------------------------------------------------------------------

_TIGHTNESS = {"or": 1, "and": 2, "<": 4, "<=": 4, ">": 4, ">=": 4, "=": 4, "!=": 4, "+": 5, "-": 5, "*": 6, "/": 6}
_NOT, _SIGN = 3, 7


class _Reader:
    def __init__(self, text: str, names: Sequence[str]) -> None:
        self._tokens = _tokens(text)
        self._at = 0
        self._names = list(names)
        self._depth = 0

    @property
    def _next(self) -> _Token:
        return self._tokens[self._at]

    def _take(self) -> _Token:
        token = self._next
        self._at += 1
        return token

    def _expect(self, text: str, after: str) -> None:
        if self._next.text != text or self._next.kind != "sign":
            raise ExpressionError(f"{after} needs {text!r} before {self._shown(self._next)}.", self._next.column)
        self._take()

    @staticmethod
    def _shown(token: _Token) -> str:
        return token.text if token.kind == "end" else repr(token.text)

    def read(self) -> Node:
        if self._next.kind == "end":
            raise ExpressionError("The expression is empty.", 1)
        found = self._expression(0)
        if self._next.kind != "end":
            raise ExpressionError(f"{self._shown(self._next)} is not expected.", self._next.column)
        return found

    def _expression(self, tightness: int) -> Node:
        self._depth += 1
        if self._depth > MOST_NESTED:
            raise ExpressionError(f"Brackets are nested more than {MOST_NESTED} deep.", self._next.column)
        left = self._first()
        compared = False
        while self._next.kind == "sign" and _TIGHTNESS.get(self._next.text, 0) > tightness:
            sign = self._take()
            if _TIGHTNESS[sign.text] == 4:
                if compared:
                    raise ExpressionError("Comparisons cannot follow each other; join them with 'and'.", sign.column)
                compared = True
            left = _Plain(sign.text, (left, self._expression(_TIGHTNESS[sign.text])))
        self._depth -= 1
        return left

    def _first(self) -> Node:
        token = self._take()
        if token.kind == "number":
            if not math.isfinite(float(token.text)):
                raise ExpressionError(f"{token.text} is too large.", token.column)
            return _Number(float(token.text))
        if token.kind == "name":
            if self._next.text == "(" and self._next.kind == "sign":
                return self._call(token)
            if token.text in self._names:
                return _Name(token.text)
            if token.text in FUNCTIONS:
                raise ExpressionError(f"{token.text} is written {FUNCTIONS[token.text][2]}.", token.column)
            known = ", ".join(self._names)
            raise ExpressionError(f"There is no surface {token.text!r}; there are {known}.", token.column)
        if token.text == "(":
            inner = self._expression(0)
            self._expect(")", "The bracket")
            return inner
        if token.text in ("-", "+"):
            inner = self._expression(_SIGN)
            return _Plain("sign", (inner,)) if token.text == "-" else inner
        if token.text == "not":
            return _Plain("not", (self._expression(_NOT),))
        raise ExpressionError(f"A number, a surface or a bracket is expected, not {self._shown(token)}.", token.column)

    def _call(self, token: _Token) -> Node:
        if token.text not in FUNCTIONS:
            known = ", ".join(FUNCTIONS)
            raise ExpressionError(f"There is no function {token.text!r}; there are {known}.", token.column)
        self._take()
        columns, parts = [self._next.column], []
        if not (self._next.text == ")" and self._next.kind == "sign"):
            parts.append(self._expression(0))
            while self._next.text == "," and self._next.kind == "sign":
                self._take()
                columns.append(self._next.column)
                parts.append(self._expression(0))
        self._expect(")", token.text)
        fewest, most, written = FUNCTIONS[token.text]
        if not fewest <= len(parts) <= most:
            raise ExpressionError(f"{token.text} is written {written}.", token.column)
        if token.text in _FOCAL:
            if not isinstance(parts[1], _Number) or not parts[1].number > 0:
                raise ExpressionError(f"{token.text} needs a number of metres greater than 0.", columns[1])
            return _Focal(token.text, parts[0], parts[1].number)
        return _Plain(token.text, tuple(parts))


def parse(text: str, names: Sequence[str]) -> Node:
    """An expression over surfaces of these names. Raises ExpressionError with the column of the mistake."""
    return _Reader(text, names).read()


def names_in(node: Node) -> set[str]:
    """The surfaces an expression looks at."""
    if isinstance(node, _Name):
        return {node.name}
    if isinstance(node, _Focal):
        return names_in(node.part)
    return set().union(*(names_in(part) for part in node.parts)) if isinstance(node, _Plain) else set()


def is_condition(node: Node) -> bool:
    """Whether its cells say true or false rather than a height."""
    return isinstance(node, _Plain) and node.name in ("<", "<=", ">", ">=", "=", "!=", "and", "or", "not", "isempty")
