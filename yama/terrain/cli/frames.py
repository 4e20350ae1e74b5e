"""`yama frame`: a frame proposed for files, or made of what is given."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from yama.terrain import kinds
from yama.terrain.cli.look import read
from yama.terrain.cli.words import declared_of, new_file
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame, propose
from yama.terrain.grid import Bounds, Grid, parse_crs


def frame(arguments: argparse.Namespace) -> None:
    """Propose or make a frame, and write it."""
    out = new_file(arguments.out)
    sources = [(path, False) for path in arguments.files]
    if arguments.within:
        sources.append((arguments.within, True))
    extents = [
        kinds.extent_of(read(path, declared_of(arguments), arguments.crs)[1], Path(path).name, meant)
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
