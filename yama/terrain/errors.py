"""The few kinds of error the core raises. Each carries a sentence a technician can act on."""


class TerrainError(Exception):
    """Something about the work cannot be done; `str(error)` says what, where and what to do."""


class InputError(TerrainError):
    """A file, a table or a parameter is unusable as given."""


class GridError(TerrainError):
    """A grid is impossible, too large, or does not agree with another."""


class CancelledError(TerrainError):
    """The work was stopped on request; nothing was kept."""
