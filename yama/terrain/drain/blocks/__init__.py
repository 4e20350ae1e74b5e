"""Water over rasters that are larger than memory: blocks, a graph of their rims, blocks again.

After R. Barnes, "Parallel Priority-Flood depression filling for trillion cell digital elevation models on desktops or
clusters", Computers & Geosciences 96 (2016), and "Parallel non-divergent flow accumulation for trillion cell digital
elevation models", Environmental Modelling & Software 92 (2017), with the basins and passes of `hollows` in place of
floods. Blocks are looked at on all cores, or on the workers of the scheduler that YAMA_CLUSTER names, which must see the
same files. The cells are those that the whole raster gives in memory, whatever the blocks.
"""

from yama.terrain.drain.blocks.conditioning import burn, condition, holding, lying_in
from yama.terrain.drain.blocks.counts import accumulate
from yama.terrain.drain.blocks.filling import fill
from yama.terrain.drain.blocks.ground import Ground, ends, reached
from yama.terrain.drain.blocks.parts import drown
from yama.terrain.drain.blocks.raster import Blocks, Raster
from yama.terrain.drain.blocks.standing import list_hollows
from yama.terrain.drain.blocks.ways import directions, lowest_places

SIDE = 2048
"""Cells along a side of a block."""

__all__ = [
    "SIDE",
    "Blocks",
    "Ground",
    "Raster",
    "accumulate",
    "burn",
    "condition",
    "directions",
    "drown",
    "ends",
    "fill",
    "holding",
    "list_hollows",
    "lowest_places",
    "lying_in",
    "reached",
]
