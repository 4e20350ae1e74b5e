"""Waymark: map features of the island as a provider has them: rivers with gaps and side channels, roads, cover, names."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import contourpy
import numpy as np
import numpy.typing as npt
import rasterio.features
import shapely
from affine import Affine
from scipy import ndimage

from yama.demo.terrain import COVERS, FRAME, Island, streams
from yama.terrain.features import Features
from yama.terrain.formats import vector

SPELLINGS = ("Avel", "Avell")
FAULTS = {"gaps": 3, "side_channels": 2}
COLLECTIONS = ("rivers", "roads", "coast", "water", "land_cover", "boundary", "places")

_STEP = 4

Array = npt.NDArray[np.float64]


def outlines(mask: npt.NDArray[np.bool_], shortest: int) -> list[Array]:
    """Smooth closed lines around what is true, `(points, 2)` of x, y each; small ones are left out."""
    smooth = ndimage.gaussian_filter(mask[::_STEP, ::_STEP].astype(np.float32), 0.8)
    found: Any = contourpy.contour_generator(z=smooth).lines(0.5)
    half = (_STEP - 1) / 2 - _STEP / 2 + 0.5
    return [
        np.column_stack([FRAME.x_of(ring[:, 0] * _STEP + half), FRAME.y_of(ring[:, 1] * _STEP + half)])
        for ring in found
        if len(ring) > shortest
    ]


def _features(geometries: list[Any], **attributes: list[Any]) -> Features:
    return Features(FRAME.crs, np.array(geometries, dtype=object), attributes)


def _rivers(truth: Island, rng: np.random.Generator) -> Features:
    pieces: list[Any] = []
    names: list[str] = []
    kinds: list[str] = []
    cuts = np.linspace(0, len(truth.river) - 1, FAULTS["gaps"] + 2).astype(int)
    for number, (start, end) in enumerate(zip(cuts[:-1], cuts[1:], strict=True)):
        piece = truth.river[start + (5 if number else 0) : end]  # some sixty metres are missing between two pieces
        pieces.append(shapely.LineString(piece[::2]))
        names.append(SPELLINGS[number % 2])
        kinds.append("river")
    for at in rng.choice(np.arange(60, len(truth.river) - 80), FAULTS["side_channels"], replace=False):
        bend = truth.river[at : at + 40]
        bow = 26 * np.sin(np.linspace(0, np.pi, len(bend)))
        side = np.gradient(bend, axis=0)
        side = np.column_stack([-side[:, 1], side[:, 0]]) / np.hypot(*side.T)[:, None]
        pieces.append(shapely.LineString(bend + side * bow[:, None]))
        names.append(SPELLINGS[0])
        kinds.append("side channel")
    lake = [shapely.Polygon(ring) for ring in outlines(truth.cover == COVERS.index("water"), 30)]
    main = shapely.union_all([shapely.buffer(shapely.LineString(truth.river), 40), *shapely.buffer(lake, 15)])
    for number, line in enumerate(streams(truth, 160)):
        shape = shapely.LineString(line).simplify(4)
        rest = shapely.difference(shape, main)
        if rest.length > 300:
            parts = shapely.get_parts(rest)
            pieces.append(parts[np.argmax(shapely.length(parts))])
            names.append(
                ("Sill", "Rook", "Fenner", "Otter", "Drake", "Hale")[number % 6] + " beck" if number < 6 else ""
            )
            kinds.append("stream")
    return _features(pieces, name=names, kind=kinds)


def _roads(truth: Island) -> Features:
    offset = shapely.offset_curve(shapely.LineString(truth.river[40:]).simplify(25), 120)
    start, end = truth.viaduct.start, truth.viaduct.end
    reach = (end - start) / np.hypot(*(end - start))
    lines = [offset, shapely.LineString([start - reach * 350, start, end, end + reach * 450])]
    mx, my = truth.places["Mossgate"]
    lines += [shapely.LineString([(mx - 240, my + d), (mx + 240, my + d + 20)]) for d in (-150, -50, 60, 160)]
    kinds = ["main road", "viaduct", *["street"] * 4]
    names = ["Harbour road", "Pell viaduct", *[""] * 4]
    return _features(lines, name=names, kind=kinds)


def _land_cover(truth: Island) -> Features:
    step = 8
    cover = ndimage.median_filter(truth.cover[::step, ::step], 5)
    place = Affine(2.0 * step, 0, FRAME.west, 0, -2.0 * step, FRAME.north)
    shapes = rasterio.features.shapes(cover, cover != COVERS.index("sea"), transform=place)
    found = [(shapely.geometry.shape(shape), COVERS[int(code)]) for shape, code in shapes]
    found = [(shape, kind) for shape, kind in found if shape.area > 8_000]
    return _features([shape.simplify(6) for shape, _ in found], kind=[kind for _, kind in found])


def collections(truth: Island, seed: int) -> dict[str, Features]:
    """All of Waymark by collection, in the frame's CRS."""
    rng = np.random.default_rng(seed)
    coast = outlines(truth.heights > 0, 40)
    water = outlines(truth.cover == COVERS.index("water"), 30)
    island = max((shapely.Polygon(ring) for ring in coast), key=lambda ring: float(ring.area))
    works = shapely.buffer(shapely.LineString(truth.river).simplify(20), 700)
    line = shapely.LineString(truth.river).simplify(20)
    return {
        "rivers": _rivers(truth, rng),
        "roads": _roads(truth),
        "coast": _features([shapely.LineString(ring) for ring in coast], kind=["coast"] * len(coast),
                           name=["Sundrel"] * len(coast)),
        "water": _features([shapely.Polygon(ring) for ring in water], kind=["water"] * len(water),
                           name=["Lantern Water"] * len(water)),
        "land_cover": _land_cover(truth),
        "boundary": _features([island, works.intersection(island), line], name=["Sundrel", "Avel rack railway", "Rail axis"],
                              kind=["island", "project area", "axis"]),
        "places": _features([shapely.Point(place) for place in truth.places.values()], name=list(truth.places),
                            kind=["place"] * len(truth.places)),
    }  # fmt: skip


def make(truth: Island, folder: Path, seed: int) -> dict[str, Features]:
    """Write each collection as `waymark_<name>.geojson` in degrees; returns them in the frame's CRS."""
    made = collections(truth, seed)
    for name, features in made.items():
        vector.write(features, folder / f"waymark_{name}.geojson", name)
    return made
