"""What stands beside a raster and says what the raster does not: a world file, a CRS, coefficients, both at once.

World files are six numbers, one a line: x to a column, y to a column, x to a row, y to a row, and the place of the first cell's
middle. A `.prj` is a CRS as text, an `.aux.xml` may hold both. They count where the raster does not say it itself.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from pathlib import Path, PurePosixPath
from xml.etree import ElementTree

from pyproj import CRS
from pyproj.exceptions import CRSError

from yama.terrain.errors import InputError
from yama.terrain.formats import rpc
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import crs_name

_LARGEST = 1_000_000
_RASTERS = (".tif", ".tiff", ".png", ".jpg", ".jpeg", ".asc", ".nc")


def world_suffixes(suffix: str) -> set[str]:
    """What a world file of a raster with this suffix ends with: its first and last letter and w, all of it and w, or wld."""
    bare = suffix.lstrip(".").lower()
    return {".wld", f".{bare}w", *([f".{bare[0]}{bare[-1]}w"] if len(bare) > 1 else [])}


def kind_beside(raster: str, other: str) -> str:
    """What a file is beside a raster by their names: `world`, `crs`, `xml`, `rpc`, or empty."""
    one, two = PurePosixPath(raster.replace("\\", "/").lower()), PurePosixPath(other.replace("\\", "/").lower())
    if one == two or one.parent != two.parent:
        return ""
    if rpc.is_beside(str(one), str(two)):
        return "rpc"
    if two.name in (f"{one.name}.aux.xml", f"{one.stem}.aux.xml"):
        return "xml"
    if two.stem != one.stem:
        return ""
    if two.suffix == ".prj":
        return "crs"
    return "world" if two.suffix in world_suffixes(one.suffix) else ""


def is_beside_something(name: str) -> bool:
    """Whether a file's name is that of a world file, of a CRS, or of both, beside some raster."""
    low = name.lower()
    return low.endswith((".aux.xml", ".prj")) or PurePosixPath(low).suffix in {
        suffix for raster in _RASTERS for suffix in world_suffixes(raster)
    }


def companions(raster: str, names: Iterable[str]) -> dict[str, str]:
    """Those of some files that stand beside a raster, by what they are."""
    if PurePosixPath(raster).suffix.lower() not in _RASTERS:
        return {}
    return {kind: name for name in names if (kind := kind_beside(raster, name))}


def _text(path: Path, name: str) -> str:
    if path.stat().st_size > _LARGEST:
        raise InputError(f"{name} is too large to say where a raster lies.")
    try:
        return path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(f"{name} is not text.") from error


def world(text: str, name: str) -> tuple[float, ...]:
    """The transform of corners a, b, c, d, e, f that a world file says. Raises InputError."""
    try:
        numbers = [float(word.replace(",", ".")) for word in text.split()]
    except ValueError as error:
        raise InputError(f"{name} is no world file: it holds something that is not a number.") from error
    if len(numbers) != 6 or not all(map(math.isfinite, numbers)):
        raise InputError(f"{name} is no world file: that is six numbers, and these are {len(numbers)}.")
    a, d, b, e, x, y = numbers
    return a, b, x - a / 2 - b / 2, d, e, y - d / 2 - e / 2


def _crs(text: str, name: str) -> str:
    try:
        return crs_name(CRS.from_user_input(text.strip()))
    except (CRSError, UnicodeError) as error:
        raise InputError(f"{name} does not say a CRS that is known here. Name it by hand.") from error


def _from_xml(text: str, name: str) -> dict[str, object]:
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError(f"{name} defines entities of its own and is not read.")
    try:
        root = ElementTree.fromstring(text)
    except ElementTree.ParseError as error:
        raise InputError(f"{name} cannot be read; it is damaged.") from error
    found: dict[str, object] = {}
    if (srs := root.findtext("SRS")) and srs.strip():
        found["crs"] = _crs(srs, name)
    if (said := root.findtext("GeoTransform")) and said.strip():
        try:
            c, a, b, f, d, e = (float(word) for word in said.split(","))
        except ValueError as error:
            raise InputError(f"{name}: its GeoTransform is not six numbers.") from error
        found["place"] = [a, b, c, d, e, f]
    if (nodata := root.findtext("PAMRasterBand[@band='1']/NoDataValue")) and nodata.strip():
        try:
            found["nodata"] = float(nodata)
        except ValueError as error:
            raise InputError(f"{name}: its NoDataValue is not a number.") from error
    return {key: value for key, value in found.items() if not (isinstance(value, float) and math.isnan(value))}


def said_beside(files: Mapping[str, Path], names: Mapping[str, str], lacks: set[str], declared: Declared) -> Declared:
    """What files beside a raster say of it, added to what is declared where the raster lacks it and nobody declared it.

    files, names: paths and names by kind, see `companions`. lacks: of `crs`, `place`, `nodata`. Raises InputError.
    """
    found: dict[str, object] = {}
    if "rpc" in files:
        found["rpc"] = rpc.text_of(rpc.read(files["rpc"], names["rpc"]))
    if "xml" in files:
        found |= {
            key: value
            for key, value in _from_xml(_text(files["xml"], names["xml"]), names["xml"]).items()
            if key in lacks
        }
    if "crs" in files and "crs" in lacks:
        found["crs"] = _crs(_text(files["crs"], names["crs"]), names["crs"])
    if "world" in files and "place" in lacks:
        found["place"] = list(world(_text(files["world"], names["world"]), names["world"]))
    said = declared.to_dict()
    return declared.also({key: value for key, value in found.items() if key not in said})
