"""How a depot misbehaves when told to: slow, down for maintenance, or handing out damaged files."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

_CHUNK = 1 << 14


@dataclass
class Behaviour:
    """Of one provider. bytes_per_second: 0 is as fast as it goes. down_until: seconds since the epoch. flip, cut: names
    of assets whose next full delivery is changed in the middle, or ends too soon."""

    bytes_per_second: float = 0.0
    down_until: float = 0.0
    flip: set[str] = field(default_factory=set)
    cut: set[str] = field(default_factory=set)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def set(self, told: dict[str, Any]) -> None:
        """Take over what was told: bytes_per_second, down_seconds, flip and cut (lists of asset names)."""
        with self.lock:
            self.bytes_per_second = float(told.get("bytes_per_second", self.bytes_per_second))
            if "down_seconds" in told:
                self.down_until = time.time() + float(told["down_seconds"])
            self.flip |= set(told.get("flip", ()))
            self.cut |= set(told.get("cut", ()))

    @property
    def down_for(self) -> int:
        """Whole seconds until it is up again, 0 when it is."""
        return max(int(self.down_until - time.time() + 0.999), 0)

    def _fault(self, name: str) -> str:
        with self.lock:
            for kind, names in (("flip", self.flip), ("cut", self.cut)):
                if name in names:
                    names.discard(name)
                    return kind
        return ""

    def deliver(self, path: Path, first: int, last: int) -> Iterator[bytes]:
        """The bytes first to last (exclusive) of a file, the way this depot does it now."""
        fault = self._fault(path.stem)
        middle = (first + last) // 2
        with path.open("rb") as file:
            file.seek(first)
            at = first
            while at < last:
                data = file.read(min(_CHUNK, last - at))
                if fault == "cut" and at + len(data) > middle:
                    return
                if fault == "flip" and at <= middle < at + len(data):
                    changed = bytearray(data)
                    changed[middle - at] ^= 0xFF
                    data = bytes(changed)
                at += len(data)
                yield data
                if self.bytes_per_second:
                    time.sleep(len(data) / self.bytes_per_second)
