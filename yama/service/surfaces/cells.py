"""Cells of surfaces for the map."""

from __future__ import annotations

import numpy as np

from yama.service.holdings.kinds.surface import is_coarse
from yama.service.projects.models import Project
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Window
from yama.terrain.relief.slope import gradient, gradients_of
from yama.terrain.relief.tone import REACH, Shade, tone, tone_of
from yama.terrain.surface import Heights, Surface
from yama.terrain.units import UNITS, in_unit


def tile_bands(
    project: Project, surface: Surface, window: Window, level: int, shade: Shade = "none", finer: int = 1
) -> list[Heights]:
    """What the map draws a window of a level from: heights on the frame's grid.

    Heights are in the frame's unit. A coarse surface brings its gradients towards east and north as well, taken on its
    own cells, so that each of these is one flat patch of one shade. Where the view is too wide for that it is read
    smoothly instead. finer: the frame has so many times as many cells along each side. With a shade its tone from -1 to
    1 comes last.
    """
    frame = project.frame.grid.finer(finer)
    surface = in_unit(surface, project.frame.unit)
    metres = np.float32(UNITS.get(surface.unit, 1.0))
    at = frame.at_level(level)
    coarse = is_coarse(frame, surface.grid)
    if coarse and is_coarse(at, surface.grid):
        layers = [surface, gradient(surface, 0), gradient(surface, 1)]
        if shade != "none":
            layers.append(tone(surface, shade))
        heights, east, north, *tones = (fitted(layer, frame, "nearest").read(window, level) for layer in layers)
        east, north = east / metres, north / metres  # as the heights, which the map turns into metres for its light
    else:
        halo = REACH if shade != "none" else int(coarse)
        around = fitted(surface, frame).read(window.grown(halo), level)
        heights = around[halo : halo + window.rows, halo : halo + window.cols]
        tones = (
            [tone_of(around * metres, at.part(window.grown(halo)), shade, frame.ground())] if shade != "none" else []
        )
        if coarse:
            ring = slice(halo - 1, 1 - halo or None)
            east, north = gradients_of(around[ring, ring], at.part(window.grown(1)), frame.ground())
    # finer than any eye tells shades apart, and a third of the bytes
    slopes = [np.round(slope * 256) / np.float32(256) for slope in (east, north)] if coarse else []
    return [heights, *slopes, *(np.round(one * 128) / np.float32(128) for one in tones)]
