"""Surfaces: values on a grid, read by window. Stored ones come from a file, live ones are computed on sight."""

from yama.terrain.surface.accompanied import Accompanied, OnlyWhere
from yama.terrain.surface.base import Category, Facets, Heights, Surface, cut_out, digest, put_in
from yama.terrain.surface.evaluated import EvaluatedSurface
from yama.terrain.surface.live import LiveSurface
from yama.terrain.surface.memory import ArraySurface
from yama.terrain.surface.over import Over
from yama.terrain.surface.sampling import sample, sample_with_rises
from yama.terrain.surface.statistics import Moments, Statistics, statistics
from yama.terrain.surface.stored import StoredSurface, has_mask
from yama.terrain.surface.storing import refused_by_disk, store
from yama.terrain.surface.walking import each, read_block, walk

__all__ = [
    "Accompanied",
    "ArraySurface",
    "Category",
    "EvaluatedSurface",
    "Facets",
    "Heights",
    "LiveSurface",
    "Moments",
    "OnlyWhere",
    "Over",
    "Statistics",
    "StoredSurface",
    "Surface",
    "cut_out",
    "digest",
    "each",
    "has_mask",
    "put_in",
    "read_block",
    "refused_by_disk",
    "sample",
    "sample_with_rises",
    "statistics",
    "store",
    "walk",
]
