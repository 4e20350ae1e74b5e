"""Work that has to wait for something outside."""

from __future__ import annotations


class LaterError(Exception):
    """Raised by a job's work that should be tried again in some seconds; meanwhile its worker does other things."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"again in {seconds:.1f} s")
        self.seconds = seconds
