"""`yama profile`: heights of surfaces along a line."""

from __future__ import annotations

import argparse
import csv
import io
import json
import sys
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from yama.terrain.cli.look import read
from yama.terrain.cli.words import declared_of, new_file
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.relief.profile import courses, finest, track
from yama.terrain.surface import Surface


def profile(arguments: argparse.Namespace) -> None:
    """Read surfaces along a line and write what was read."""
    out = new_file(arguments.out)
    if out and out.suffix.lower() not in (".csv", ".json"):
        raise InputError(f"A profile is written as .csv or .json, not as {out.suffix or 'a bare name'}.")
    if arguments.step is not None and not arguments.step > 0:
        raise InputError(f"The step must be greater than 0 m, not {arguments.step:g}.")
    held: list[Surface] = []
    for path in arguments.surfaces:
        surface = read(path, declared_of(arguments), arguments.crs)[1]
        if not isinstance(surface, Surface):
            raise InputError(f"{path} is no surface, and profiles are read from surfaces.")
        held.append(surface)
    corners, crs = (arguments.line, held[0].grid.crs) if arguments.line else _line_of(arguments)
    along = track(corners, crs, arguments.step or finest([one.grid for one in held]))
    if arguments.step and along.step > arguments.step:
        print(f"note: So long a line is read every {along.step:.4g} m.", file=sys.stderr)
    found = courses(held, along, crs, arguments.cells)
    names = _names([Path(path).name for path in arguments.surfaces])
    if out and out.suffix.lower() == ".json":
        told: dict[str, Any] = {
            "crs": crs, "step": along.step, "distance": along.distance.tolist(), "x": along.x.tolist(), "y": along.y.tolist(),
            "surfaces": {
                name: {"unit": one.unit, **course.to_dict()} for name, one, course in zip(names, held, found, strict=True)
            },
        }  # fmt: skip
        out.write_text(json.dumps(told, indent=1) + "\n", encoding="utf-8")
    else:
        text = io.StringIO()
        rows = csv.writer(text, lineterminator="\n")
        rows.writerow(["distance_m", "x", "y", *(f"{name}_{one.unit}" for name, one in zip(names, held, strict=True))])
        heights = [["" if np.isnan(value) else f"{value:.3f}" for value in course.heights] for course in found]
        places = zip(along.distance, along.x, along.y, strict=True)
        digits = 8 if abs(along.x).max() <= 360 else 3
        for i, (far, x, y) in enumerate(places):
            rows.writerow([f"{far:.3f}", f"{x:.{digits}f}", f"{y:.{digits}f}", *(column[i] for column in heights)])
        if out:
            out.write_text(text.getvalue(), encoding="utf-8")
        else:
            print(text.getvalue(), end="")
    for name, one, course in zip(names, held, found, strict=True):
        if course.lowest is None:
            print(f"{name}: empty along all of it.", file=sys.stderr)
        else:
            print(f"{name}: {course.lowest:.2f} to {course.highest:.2f} {one.unit}, {course.climb:.1f} up and {course.fall:.1f} down.",
                  file=sys.stderr)  # fmt: skip


def _line_of(arguments: argparse.Namespace) -> tuple[list[tuple[float, float]], str]:
    held = read(arguments.along, declared_of(arguments), arguments.crs)[1]
    lines = held.geometries[shapely.get_dimensions(held.geometries) == 1] if isinstance(held, Features) else []
    if len(lines) != 1 or shapely.get_num_geometries(lines[0]) != 1:
        raise InputError(
            f"{arguments.along} holds {len(lines)} lines; a profile follows one. Name a file with that one in it."
        )
    assert isinstance(held, Features)
    return [(float(x), float(y)) for x, y in shapely.get_coordinates(lines[0])], held.crs


def _names(names: list[str]) -> list[str]:
    """Names without their suffix, each once."""
    plain = [Path(name).stem for name in names]
    return [name if plain.count(name) == 1 else f"{name}_{number}" for number, name in enumerate(plain, start=1)]
