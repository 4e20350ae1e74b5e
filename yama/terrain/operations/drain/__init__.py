"""Water over a surface, as operations, in the order in which they are offered."""

from yama.terrain.operations.drain import heights, streams, catchments, networks  # noqa: F401, I001
