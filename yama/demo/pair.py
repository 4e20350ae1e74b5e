"""Two images of the upper Avel from a made-up satellite, with rational polynomials as delivered: fitted to the sensor
and then off by some cells."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from yama.demo.orbit import LEFT, RIGHT, fitted
from yama.demo.scene import render, scene_of
from yama.demo.terrain import Island
from yama.terrain.formats import image
from yama.terrain.rational import RationalModel

NAMES = ("avel_p1.tif", "avel_p2.tif")
BIAS = ((-3.12, 1.84), (2.47, -0.95))
"""Columns and rows by which the delivered models of both images are off."""


def speckled(cells: npt.NDArray[np.uint16], seed: int, looks: int = 4) -> npt.NDArray[np.uint16]:
    """The same as a radar image would be: amplitudes, multiplied by speckle of so many looks."""
    rng = np.random.default_rng(seed)
    speckle = np.sqrt(rng.gamma(looks, 1 / looks, cells.shape))
    found: npt.NDArray[np.uint16] = np.clip(cells * (speckle / speckle.mean()), 1, 4095).astype(np.uint16)
    return found


def delivered(number: int) -> RationalModel:
    """A model as it comes with its image: off by some cells."""
    model = fitted((LEFT, RIGHT)[number])
    across, down = BIAS[number]
    return replace(model, col_offset=model.col_offset + across, row_offset=model.row_offset + down)


def make(truth: Island, canopy: npt.NDArray[np.float32], folder: Path, seed: int) -> list[Path]:
    """Write both images; returns their paths."""
    scene = scene_of(truth, canopy)
    paths = [folder / name for name in NAMES]
    for number, (sensor, path) in enumerate(zip((LEFT, RIGHT), paths, strict=True)):
        image.write(render(scene, sensor, number, seed), delivered(number), path)
    return paths
