"""`yama frame`: a frame proposed for files, or made of what is given."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

import shapely

from yama.terrain.cli.look import read
from yama.terrain.cli.words import declared_of, new_file
from yama.terrain.cloud import Cloud
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import Held
from yama.terrain.frame import Extent, Frame, extent_of_points, propose
from yama.terrain.grid import Bounds, Grid, metres_per_unit, parse_crs
from yama.terrain.points import Points
from yama.terrain.surface import Surface


def extent_of(held: Held, name: str, meant: bool = False) -> Extent:
    """Where a source lies and how fine it is. meant: its polygons say which area is meant."""
    if isinstance(held, Surface):
        width, height = held.grid.metres_per_cell()
        return Extent(name, held.grid.crs, held.grid.bounds, cell=(width * height) ** 0.5)
    if isinstance(held, Points):
        return extent_of_points(held, name)
    if isinstance(held, Cloud):
        across, up = metres_per_unit(held.crs, *held.bounds.middle)
        box = held.bounds
        area = (box.east - box.west) * across * (box.north - box.south) * up
        return Extent(name, held.crs, box, spacing=float((area / max(held.count, 1)) ** 0.5))
    if isinstance(held, Features):
        polygons = shapely.get_dimensions(held.geometries) == 2
        if meant and not polygons.any():
            raise InputError(f"{name} holds no polygon that could say which area is meant.")
        return Extent(name, held.crs, (held.kept(polygons) if polygons.any() else held).bounds, boundary=meant)
    return Extent(name, held.crs, held.bounds)


def frame(arguments: argparse.Namespace) -> None:
    """Propose or make a frame, and write it."""
    out = new_file(arguments.out)
    sources = [(path, False) for path in arguments.files]
    if arguments.within:
        sources.append((arguments.within, True))
    extents = [
        extent_of(read(path, declared_of(arguments), arguments.crs)[1], Path(path).name, meant)
        for path, meant in sources
    ]
    if extents:
        found = propose(extents, arguments.cell, arguments.frame_crs)
        grid, reasons = found.frame.grid, found.reasons
    elif arguments.bounds and arguments.frame_crs and arguments.cell:
        grid, reasons = (
            Grid.covering(arguments.frame_crs, Bounds(*arguments.bounds), arguments.cell),
            ("As given.",) * 3,
        )
    else:
        raise InputError("Name files that the frame is to hold, or give --frame-crs, --cell and --bounds.")
    if arguments.bounds:
        grid = Grid.covering(grid.crs, Bounds(*arguments.bounds), grid.cell_width)
        reasons = (reasons[0], "As given.", reasons[2])
    parse_crs(grid.crs)
    text = json.dumps(Frame(grid, arguments.unit, arguments.zero).to_dict(), indent=2) + "\n"
    for what, why in zip(("CRS", "area", "cell"), reasons, strict=True):
        print(f"{what}: {why}", file=sys.stderr)
    print(f"{grid.cols} x {grid.rows} cells of {grid.cell_width:g} in {grid.crs}.", file=sys.stderr)
    if out:
        out.write_text(text, encoding="utf-8")
    else:
        print(text, end="")
