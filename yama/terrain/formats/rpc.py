"""Text files of rational polynomial coefficients that stand beside an image: `LINE_OFF: 2000 pixels` and so on, one
number a line, as RPC00B names them."""

from __future__ import annotations

import math
import re
from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.rational import TERMS, RationalModel

_NAMES = {
    "LINE_OFF": "row_offset", "SAMP_OFF": "col_offset", "LAT_OFF": "latitude_offset", "LONG_OFF": "longitude_offset",
    "HEIGHT_OFF": "height_offset", "LINE_SCALE": "row_scale", "SAMP_SCALE": "col_scale", "LAT_SCALE": "latitude_scale",
    "LONG_SCALE": "longitude_scale", "HEIGHT_SCALE": "height_scale",
}  # fmt: skip
_UNITS = {"LINE": "pixels", "SAMP": "pixels", "LAT": "degrees", "LONG": "degrees", "HEIGHT": "meters"}
_POLYNOMIALS = {"LINE_NUM_COEFF": "row_numerator", "LINE_DEN_COEFF": "row_denominator",
                "SAMP_NUM_COEFF": "col_numerator", "SAMP_DEN_COEFF": "col_denominator"}  # fmt: skip
_LARGEST = 100_000


def is_rpc(start: bytes) -> bool:
    """Whether a file with these first bytes is such a text."""
    return bool(re.match(rb"\s*(ERR_BIAS|LINE_OFF)\s*[:=]", start.removeprefix(b"\xef\xbb\xbf")))


def parse(text: str, name: str) -> RationalModel:
    """The model that a text writes down. Raises InputError that names what is missing or no number."""
    found: dict[str, float] = {}
    for number, line in enumerate(text.splitlines(), 1):
        match = re.match(r"\s*([A-Z_0-9]+)\s*[:=]\s*([^\s;]+)", line)
        if match is None:
            if line.strip():
                raise InputError(f"Line {number} of {name} is no coefficient: {line.strip()[:40]!r}.")
            continue
        try:
            found[match[1]] = float(match[2])
        except ValueError as error:
            raise InputError(f"Line {number} of {name}: {match[2][:20]!r} is not a number.") from error
        if not math.isfinite(found[match[1]]):
            raise InputError(f"Line {number} of {name}: {match[2][:20]!r} is not a number.")
    wanted = [*_NAMES, *(f"{prefix}_{i}" for prefix in _POLYNOMIALS for i in range(1, TERMS + 1))]
    missing = [key for key in wanted if key not in found]
    if missing:
        raise InputError(f"{name} lacks {missing[0]}{f' and {len(missing) - 1} more' if len(missing) > 1 else ''}. "
                         "It is cut short or no file of rational polynomial coefficients.")  # fmt: skip
    values = {attribute: found[key] for key, attribute in _NAMES.items()}
    polynomials = {
        attribute: tuple(found[f"{prefix}_{i}"] for i in range(1, TERMS + 1))
        for prefix, attribute in _POLYNOMIALS.items()
    }
    try:
        return RationalModel(**values, **polynomials)  # type: ignore[arg-type]
    except InputError as error:
        raise InputError(f"{name}: {error}") from error


def read(path: str | Path, name: str = "") -> RationalModel:
    """The model in a text file. Raises InputError."""
    path = Path(path)
    name = name or path.name
    if path.stat().st_size > _LARGEST:
        raise InputError(f"{name} is too large to be a file of rational polynomial coefficients.")
    try:
        return parse(path.read_text(encoding="utf-8-sig"), name)
    except UnicodeDecodeError as error:
        raise InputError(f"{name} is not text.") from error


def text_of(model: RationalModel) -> str:
    """A model as such a text; reading it gives the same numbers."""
    lines = [f"{key}: {getattr(model, attribute)!r} {_UNITS[key.split('_')[0]]}" for key, attribute in _NAMES.items()]
    for prefix, attribute in _POLYNOMIALS.items():
        lines += [f"{prefix}_{i}: {value!r}" for i, value in enumerate(getattr(model, attribute), 1)]
    return "\n".join(lines) + "\n"


def write(model: RationalModel, path: str | Path) -> None:
    """Write a model as such a text, whole or not at all."""
    with replacing(Path(path)) as part:
        part.write_text(text_of(model), encoding="utf-8")


def is_beside(image: str, text: str) -> bool:
    """Whether a text's name says that it belongs to an image: the image's name with _RPC, _rpc or .rpc behind its stem."""
    stem, beside = Path(image).with_suffix("").as_posix().lower(), text.lower()
    return beside in (f"{stem}_rpc.txt", f"{stem}.rpc", f"{stem}.rpc.txt", f"{Path(image).as_posix().lower()}.rpc")
