"""Water over a surface, as operations."""

from yama.terrain.operations.drain import heights, streams, catchments, networks  # noqa: F401, I001 in this order they are offered
