"""Vector files: GeoPackage, shapefile (in a zip), GeoJSON and KML through pyogrio, DXF through ezdxf.

What holds nothing but points with heights is read as points; anything else as features.
"""

from __future__ import annotations

import logging
import re
import tempfile
import warnings
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value, parts_of, plain
from yama.terrain.files import replacing
from yama.terrain.findings import Finding, Fix
from yama.terrain.formats import archive
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.point_checks import check_points
from yama.terrain.grid import crs_name, parse_crs
from yama.terrain.later import later
from yama.terrain.points import Points, cut_texts
from yama.terrain.units import FEET, UNITS, ask_unit, said_by_crs

pyogrio = later("pyogrio")
logging.getLogger("ezdxf").setLevel(
    logging.ERROR
)  # that it may not write down which fonts there are is nobody's concern

MAX_FEATURES = 2_000_000
_SHAPE_MEMBERS = (".shp", ".shx", ".dbf")
_HEIGHTS = ("z", "h", "height", "elev", "elevation", "alt", "altitude", "z_m", "height_m", "level", "contour", "ele")
_GPX_LAYERS = ("waypoints", "track_points", "route_points", "tracks", "routes")
_CODES = ("code", "kind", "class", "type")
_HAIR = 1e-6
"""Degrees beyond 180 and 90 that are nothing but rounding."""
_FLATNESS = 0.05  # of arcs and curves turned into lines, in drawing units
_FLATNESS_SHARE = 2e-6  # of their size, where that is more: a circle has a thousand corners then


_ROOT = re.compile(
    rb"(<\?xml.*?\?>|<!--.*?-->|<!DOCTYPE[^\[>]*(\[.*?\]\s*)?>|\s)*<(?:\w+:)?(kml|gpx)[\s>]", re.DOTALL | re.IGNORECASE
)
"""Nothing but declarations and comments before the root, whose name says what a file is."""
_DRIVERS = {"gpkg": "GPKG", "geojson": "GeoJSON", "kml": "KML", "gpx": "GPX", "shp": "Shapefile"}
"""The one driver that may open a family, by the last word of its name."""


@dataclass
class VectorFacts:
    """What a vector file holds: layers, number of features of each geometry, attributes, and findings."""

    name: str
    family: str
    crs: str
    layer: str
    layers: list[str]
    counts: dict[str, int]
    vertices: int
    attributes: dict[str, str]
    kind: str = "features"
    findings: list[Finding] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "findings": [finding.to_dict() for finding in self.findings]}


def family_of(path: str | Path, start: bytes, name: str = "") -> str:
    """`gpkg`, `geojson`, `kml`, `dxf`, `shp` for a zip with a shapefile, or empty. start: the file's first bytes."""
    if start[:16] == b"SQLite format 3\0":
        return "gpkg"
    text = start.removeprefix(b"\xef\xbb\xbf").lstrip()
    if text[:1] == b"{":
        return "geojson"
    if text[:1] == b"<":
        found = _ROOT.match(text)
        return found.group(3).decode().lower() if found else ""
    if re.match(rb"(999\r?\n[^\n]*\n\s*)*0\r?\nSECTION\r?\n", text) or b"Binary DXF\r\n\x1a\0" in start[:24]:
        return "dxf"
    if start[:4] == b"PK\x03\x04":
        members = archive.members(path, name)
        shapes = archive.shapefiles(members)
        # with anything else in it, it is a zip of several files, each of which counts
        return "shp" if len(shapes) == 1 and set(members) == set(next(iter(shapes.values()))) else ""
    return ""


@contextmanager
def _opened(path: Path, family: str, name: str) -> Iterator[Path]:
    """The file under a name that says its kind, a shapefile unpacked, in a folder that is deleted afterwards."""
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        if family != "shp":
            link = Path(folder) / f"file.{family}"
            link.symlink_to(path.resolve())
            yield link
            return
        members = archive.members(path, name)
        ((shape, parts),) = archive.shapefiles(members).items()
        beside = {part[len(shape) - 4 :].lower(): part for part in parts}
        missing = [suffix for suffix in _SHAPE_MEMBERS if suffix not in beside]
        if missing:
            raise InputError(f"{name}: the shapefile {shape} lacks its {' and '.join(missing)}. "
                             "A shapefile is several files; zip all of them together.")  # fmt: skip
        yield next(
            made for made in archive.extract(path, list(beside.values()), Path(folder), name)
            if made.suffix.lower() == ".shp"
        )  # fmt: skip


def look(
    path: str | Path, declared: Declared = NOTHING, name: str = "", frame_crs: str = ""
) -> tuple[VectorFacts, Features | Points]:
    """A vector file looked at and read. `frame_crs` is taken where neither file nor technician says a CRS and the
    format never does (DXF). Raises InputError where nothing can be read."""
    path = Path(path)
    name = name or path.name
    with path.open("rb") as file:
        start = file.read(4096)
    family = family_of(path, start, name)
    if not family:
        raise InputError(f"{name} is not a vector file that is read here.")
    if family in ("kml", "gpx"):
        _refuse_entities(path, name)
    facts = VectorFacts(name, family, "", "", [], {}, 0, {})
    drawn = family == "dxf"
    features = _drawing(path, facts, declared, frame_crs) if drawn else _dataset(path, facts, declared)
    features = _check(facts, features)
    if declared.height not in ("", "-", "z"):
        if declared.height not in features.attributes:
            held = ", ".join(features.attributes) or "none"
            raise InputError(f"{name} has no attribute {declared.height!r}; it has: {held}.")
        if facts.attributes[declared.height] != "number":
            raise InputError(f"{name} has text in {declared.height!r}, not heights. Choose an attribute of numbers.")
    return _as_points(facts, features, declared) or (facts, _in_metres(facts, features, declared))


def _refuse_entities(path: Path, name: str) -> None:
    with path.open("rb") as file:
        start = file.read(1 << 16)
    if b"<!DOCTYPE" in start or b"<!ENTITY" in start:
        raise InputError(f"{name} defines entities of its own, which can fetch other files. It is not opened. "
                         "Export it again without a document type.")  # fmt: skip


def _dataset(path: Path, facts: VectorFacts, declared: Declared) -> Features:
    name = facts.name
    unreadable = InputError(f"{name} cannot be read (it may be damaged or cut short). Get the file again.")
    with _opened(path, facts.family, name) as opened, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            layers = [(str(layer), kind) for layer, kind in pyogrio.list_layers(opened)]
            spatial = [layer for layer, kind in layers if kind is not None]
            if facts.family == "gpx":  # it always claims every kind of layer
                spatial = [
                    layer
                    for layer in _GPX_LAYERS
                    if pyogrio.read_info(opened, layer=layer, force_feature_count=True)["features"]
                ]
            if not spatial:
                raise InputError(f"{name} holds no geometries, only tables. Add a file with lines, polygons or points.")
            facts.layers = [] if facts.family in ("shp", "geojson") else spatial
            if declared.layer and declared.layer not in spatial:
                raise InputError(f"{name} has no layer {declared.layer!r}; it has: {', '.join(spatial)}.")
            facts.layer = declared.layer or spatial[0]
            info = pyogrio.read_info(opened, layer=facts.layer)
            if info["driver"].split()[-1] != _DRIVERS[facts.family]:
                raise InputError(
                    f"{name} is not what it looks like ({facts.family}); it is not opened. Export it again."
                )
            if (info["features"] or 0) > MAX_FEATURES:
                raise InputError(f"{name} claims {info['features']} features; {MAX_FEATURES} are the most taken in.")
            meta, _, wkb, columns = pyogrio.raw.read(opened, layer=facts.layer)
        except (pyogrio.errors.DataSourceError, ValueError, RuntimeError) as error:
            raise unreadable from error
    try:
        geometries = shapely.from_wkb(np.asarray(wkb, dtype=object), on_invalid="ignore")
    except (TypeError, shapely.GEOSException) as error:
        raise unreadable from error
    facts.crs = declared.crs
    if meta["crs"] and not declared.crs:
        said = parse_crs(meta["crs"])
        # degrees with a height above the ellipsoid, as this format's heights are said to be, are the degrees that all others are in
        facts.crs = crs_name(said.to_2d() if said.is_geographic and not said.is_compound else said)
    columns_by_name = {
        str(column): [plain(value) for value in values] for column, values in zip(meta["fields"], columns, strict=True)
    }
    if facts.family in ("kml", "gpx"):  # most of its columns are about drawing and stand empty
        columns_by_name = {
            column: values for column, values in columns_by_name.items()
            if any(value not in (None, "", -1, 0, False) for value in values)
        }  # fmt: skip
    usable = ~(shapely.is_missing(geometries) | shapely.is_empty(geometries))
    if not usable.all():
        left = int((~usable).sum())
        facts.findings.append(
            Finding("empty_features", "note", f"{left} features of {name} have no geometry and are left out.")
        )
    return Features(facts.crs, geometries, columns_by_name).kept(usable)


def _drawing(path: Path, facts: VectorFacts, declared: Declared, frame_crs: str) -> Features:
    from ezdxf import recover  # only where a drawing is read
    from ezdxf.lldxf.const import DXFError
    from ezdxf.path import make_path

    try:
        document, _ = recover.readfile(str(path))
    except (OSError, DXFError, ValueError, IndexError, KeyError, AttributeError, TypeError) as error:
        raise InputError(f"{facts.name} cannot be read as a DXF drawing; it is damaged or cut short. "
                         "Get it again.") from error  # fmt: skip
    geometries: list[Any] = []
    rows: list[dict[str, Value]] = []
    skipped: Counter[str] = Counter()
    for entity in document.modelspace():
        kind = entity.dxftype()
        shape, text = None, None
        try:
            if kind == "POINT":
                shape = shapely.Point(*entity.dxf.location)
            elif kind in ("TEXT", "MTEXT"):
                shape = shapely.Point(*entity.dxf.insert)
                text = entity.dxf.text if kind == "TEXT" else entity.plain_text()  # type: ignore[attr-defined]
            elif kind in ("LINE", "LWPOLYLINE", "POLYLINE", "ARC", "CIRCLE", "ELLIPSE", "SPLINE"):
                path_of = make_path(entity)
                corners = np.array([tuple(place) for place in path_of.control_vertices()])
                reach = float(np.ptp(corners, axis=0).max()) if len(corners) else 0.0
                places = [tuple(place) for place in path_of.flattening(max(_FLATNESS, _FLATNESS_SHARE * reach))]
                shape = shapely.LineString(places) if len(places) > 1 else None
        except (TypeError, ValueError, AttributeError, DXFError):
            shape = None
        if shape is None or not np.isfinite(shape.bounds).all():
            skipped[kind] += 1
            continue
        geometries.append(shape)
        rows.append({"layer": str(entity.dxf.layer), "entity": kind.lower(), "text": text})
    if not geometries:
        raise InputError(f"{facts.name} holds no lines, points or texts in its model space; there is nothing to use.")
    if skipped:
        listed = ", ".join(f"{count} {kind}" for kind, count in skipped.most_common(4))
        facts.findings.append(
            Finding("not_lines", "note", f"{sum(skipped.values())} entities of {facts.name} are no lines or points.",
                    f"Left out: {listed}.")
        )  # fmt: skip
    facts.crs = declared.crs or frame_crs
    if not declared.crs and frame_crs:
        facts.findings.append(
            Finding("assumed_crs", "caution", f"{facts.name} cannot say its CRS; {frame_crs} of the frame is taken.",
                    "If it lies elsewhere, add it again and name its CRS.")
        )  # fmt: skip
    columns = {name: [row[name] for row in rows] for name in ("layer", "entity", "text")}
    if not any(columns["text"]):
        del columns["text"]
    return Features(facts.crs, np.array(geometries, dtype=object), columns)


def _check(facts: VectorFacts, features: Features) -> Features:
    """Findings about features; returns them, in degrees no farther than a hair beyond what those reach."""
    name, add = facts.name, facts.findings.append
    if not len(features):
        raise InputError(f"{name} holds no features.")
    facts.counts, facts.vertices = features.counts(), features.vertices
    facts.attributes = features.kinds()
    if not facts.crs:
        add(Finding("no_crs", "stop", f"{name} does not say its CRS.",
                    "Without one its place is unknown. Name it here.", answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
        return features
    if len(facts.layers) > 1:
        others = [layer for layer in facts.layers if layer != facts.layer]
        for other in others[:6]:
            add(Finding("layers", "note", f"{name} also holds the layer {other}.", f"{facts.layer} was read.",
                        Fix(f"Read {other}"[:24], {"layer": other})))  # fmt: skip
    bounds = features.bounds
    if not all(np.isfinite(bounds)):
        raise InputError(f"{name} holds coordinates that are not numbers. Export it again.")
    geographic = parse_crs(facts.crs).is_geographic
    beyond = max(abs(bounds.west) - 180, abs(bounds.east) - 180, abs(bounds.south) - 90, abs(bounds.north) - 90)
    small = beyond <= _HAIR
    if geographic and 0 < beyond <= _HAIR:
        features = replace(features, geometries=np.array(
            [shapely.transform(each, _onto_earth, include_z=bool(each.has_z)) for each in features.geometries], dtype=object
        ))  # fmt: skip
    if geographic and not small:
        add(Finding("not_degrees", "stop", f"{name} says degrees ({facts.crs}), but its coordinates reach "
                    f"{max(abs(value) for value in bounds):.0f}.", "Name the CRS they are in here.", answers=[Fix("Use this CRS", {"crs": ""})]))  # fmt: skip
    if not geographic and small:
        add(Finding("degrees", "caution", f"{name} says {facts.crs}, in metres, but all its coordinates are within "
                    "180 and 90.", "They look like degrees.", Fix("Take as degrees", {"crs": "EPSG:4326"})))  # fmt: skip
    polygons = shapely.get_dimensions(features.geometries) == 2
    invalid = polygons & ~shapely.is_valid(features.geometries)
    if invalid.any():
        middle = shapely.centroid(features.geometries[invalid][:50])
        add(Finding("invalid_polygons", "caution", f"{int(invalid.sum())} polygons of {name} cross themselves.",
                    "As masks they would be wrong inside and out; they are mended before use.",
                    places=[(float(place.x), float(place.y)) for place in middle if not place.is_empty]))  # fmt: skip
    return features


def _onto_earth(places: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    return np.column_stack([places[:, 0].clip(-180, 180), places[:, 1].clip(-90, 90), *places[:, 2:].T])


def _says_height(column: str) -> bool:
    """Whether a column's name is that of heights, with or without its unit."""
    return re.sub(r"[\s_\[(]*(m|ft|us-ft|feet|metres|meters)[\])]?$", "", column.lower()).strip(" _") in _HEIGHTS


def _in_metres(facts: VectorFacts, features: Features, declared: Declared) -> Features:
    """Lines and polygons with their heights in metres: of their vertices, and in the columns that hold heights."""
    if any(finding.weight == "stop" for finding in facts.findings):
        return features
    numbers = [name for name, kind in facts.attributes.items() if kind == "number"]
    columns = [name for name in numbers if name == declared.height or (not declared.height and _says_height(name))]
    with_z = bool(shapely.has_z(features.geometries).any())
    if not columns and not with_z:
        return features
    said, ground = said_by_crs(parse_crs(facts.crs))
    if not declared.unit and said is None and ground not in (None, "m"):
        facts.findings.append(ask_unit(facts.name, str(ground)))
        return features
    feet = next((name for name in columns if FEET.search(name)), None)
    if feet and not (declared.unit or said):
        facts.findings.append(
            Finding("feet", "caution", f"The height column of {facts.name} is called {feet!r}.",
                    "Heights in feet are 3.28 times too high when taken as metres.", Fix("Take as feet", {"unit": "ft"}))
        )  # fmt: skip
    features = replace(features, units=dict.fromkeys(columns, "m"))
    factor = UNITS[declared.unit or said or "m"]
    if factor == 1.0:
        return features
    told = " and ".join([*(["its vertices"] if with_z else []), *columns])
    facts.findings.append(
        Finding("in_metres", "note", f"Heights of {facts.name} are turned into metres ({factor:.7g} m each): those of {told}.")
    )  # fmt: skip
    changed: dict[str, list[Value]] = {
        name: [None if value is None else float(value) * factor for value in features.attributes[name]]  # type: ignore[arg-type]
        for name in columns
    }
    raised = [
        shapely.transform(each, lambda places: places * (1.0, 1.0, factor), include_z=True) if each.has_z else each
        for each in features.geometries
    ]
    return replace(features, geometries=np.array(raised, dtype=object), attributes={**features.attributes, **changed})


def _as_points(facts: VectorFacts, features: Features, declared: Declared) -> tuple[VectorFacts, Points] | None:
    """The features as points where they are nothing else and have heights."""
    geometries = features.geometries
    if set(facts.counts) != {"points"} or not (shapely.get_type_id(geometries) == 0).all():
        return None
    if any(finding.weight == "stop" for finding in facts.findings):
        return None
    lower = {name.lower(): name for name in features.attributes}
    numbers = [name for name in features.attributes if facts.attributes[name] == "number"]
    own = bool(shapely.has_z(geometries).all())
    named = next((lower[height] for height in _HEIGHTS if lower.get(height) in numbers), "")
    column = declared.height or ("z" if own else named)
    others = [name for name in numbers if name != column][:6]
    if not column or column == "-" or (column == "z" and not own and "z" not in numbers):
        if column != "-" and others:
            facts.findings.append(
                Finding("no_heights", "note", f"No attribute of {facts.name} is called a height, so these points have none.")
            )  # fmt: skip
            facts.findings += [_take_heights(facts.name, name) for name in others]
        return None
    if column == "z" and own:
        heights = shapely.get_z(geometries)
        facts.findings += [_take_heights(facts.name, name) for name in others if _says_height(name)]
    else:
        heights = _numbers(features.attributes[column])
    said, ground = said_by_crs(parse_crs(facts.crs))
    if not declared.unit and said is None and ground not in (None, "m"):
        facts.findings.append(ask_unit(facts.name, str(ground)))
    code = next((lower[code] for code in _CODES if code in lower), "")
    codes = np.array([str(value or "") for value in features.attributes[code]]) if code else np.empty(0, "U1")
    if not declared.unit and said is None and FEET.search(column):
        facts.findings.append(
            Finding("feet", "caution", f"The height column of {facts.name} is called {column!r}.",
                    "Heights in feet are 3.28 times too high when taken as metres.", Fix("Take as feet", {"unit": "ft"}))
        )  # fmt: skip
    points = Points(
        facts.crs, shapely.get_x(geometries), shapely.get_y(geometries),
        {column: heights * UNITS[declared.unit or said or "m"],
         **{name: _numbers(features.attributes[name]) for name in numbers if name != column}},
        codes, column, texts={
            name: cut_texts(["" if value is None else str(value) for value in values])
            for name, values in features.attributes.items() if name not in (*numbers, code)
        },
    )  # fmt: skip
    known = np.isfinite(points.x) & np.isfinite(points.y) & np.isfinite(heights)
    if not known.all():
        facts.findings.append(
            Finding("bad_rows", "caution", f"{int((~known).sum())} points of {facts.name} have no height.",
                    "They are left out.")
        )  # fmt: skip
    points, found = check_points(points.kept(known), facts.name, declared)
    facts.kind = "points"
    facts.findings += found
    if len(points) < 3:
        facts.findings.append(Finding("too_few", "stop", f"{facts.name} holds {len(points)} usable points.",
                                      "A surface needs at least three, not on one line."))  # fmt: skip
    return facts, points


def _numbers(values: list[Value]) -> npt.NDArray[np.float64]:
    return np.array([np.nan if value is None else float(value) for value in values])


def _take_heights(name: str, column: str) -> Finding:
    return Finding(
        "other_heights",
        "note",
        f"{name} has numbers in {column} that could be heights.",
        "",
        Fix(f"Heights: {column}"[:40], {"height": column}),
    )


def write(features: Features, path: str | Path, layer: str = "features", append: bool = False) -> None:
    """Write features by the suffix of `path`: GeoPackage, shapefile, GeoJSON and KML (both in degrees, as their standards
    ask), or DXF (lines and points on layers named by their kind, without other attributes).

    append: as a further layer of a GeoPackage that is there. Raises InputError for other suffixes.
    """
    path = Path(path)
    layer = re.sub(r"[^\w .-]+", "_", layer).strip(" ._") or "features"  # drivers refuse what could be a path
    shapefile = next(name for name in pyogrio.list_drivers() if name.endswith("Shapefile"))
    drivers = {".gpkg": "GPKG", ".shp": shapefile, ".geojson": "GeoJSON", ".kml": "KML"}
    if path.suffix == ".dxf":
        _write_drawing(features, path)
        return
    driver = drivers.get(path.suffix)
    if driver is None:
        raise InputError(f"Features are written as one of {', '.join([*drivers, '.dxf'])}, "
                         f"not as {path.suffix or 'a bare name'}.")  # fmt: skip
    if driver in ("GeoJSON", "KML"):
        features = features.in_crs("EPSG:4326")
    columns = []
    for values in features.attributes.values():
        numbers = all(
            value is None or (isinstance(value, (int, float)) and not isinstance(value, bool)) for value in values
        )
        if numbers and any(value is not None for value in values):
            columns.append(np.array([np.nan if value is None else float(value) for value in values]))  # type: ignore[arg-type]
        else:
            columns.append(np.array([None if value is None else str(value) for value in values], dtype=object))
    names = {str(geometry.geom_type) for geometry in features.geometries}
    single = {name.removeprefix("Multi") for name in names}
    kind = next(iter(names)) if len(names) == 1 else f"Multi{single.pop()}" if len(single) == 1 else "Unknown"
    if kind != "Unknown" and shapely.has_z(features.geometries).any():
        kind += " Z"
    pyogrio.raw.write(
        path, shapely.to_wkb(features.geometries), columns, list(features.attributes), driver=driver, layer=layer,
        crs=features.crs, append=append, geometry_type=kind,
        **({} if driver != "GeoJSON" else {"RFC7946": "YES"}),
    )  # fmt: skip


def _write_drawing(features: Features, path: Path) -> None:
    from ezdxf import units  # only where a drawing is written
    from ezdxf.document import Drawing

    drawing = Drawing.new("R2010")
    drawing.units = units.M
    space = drawing.modelspace()
    kinds = next((features.attributes[name] for name in ("layer", "kind") if name in features.attributes), None)
    for i, geometry in enumerate(features.geometries):
        style = {
            "layer": re.sub(r'[<>/\\":;?*|=`\x00-\x1f]', "_", str((kinds[i] if kinds else None) or "features"))[:120]
        }
        for part in parts_of(geometry):
            if len(part) == 1:
                space.add_point(tuple(part[0]), dxfattribs=style)
            elif part.shape[1] == 3:
                space.add_polyline3d([tuple(place) for place in part], dxfattribs=style)
            else:
                space.add_lwpolyline([tuple(place) for place in part], dxfattribs=style)
    with replacing(path) as made:
        drawing.saveas(made)
