"""Django's test runner, which also says where the time went."""

from __future__ import annotations

import os
import time
import unittest
from typing import Any

from django.test.runner import DiscoverRunner

_MOST = 12
"""Classes named at the end."""


class _TimedResult(unittest.TextTestResult):
    """Keeps how long each class took, its set-up with it."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.seconds: dict[str, float] = {}
        self._since = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802 - unittest's name
        super().stopTest(test)
        now = time.monotonic()
        name = f"{type(test).__module__}.{type(test).__qualname__}"
        self.seconds[name] = self.seconds.get(name, 0.0) + now - self._since
        self._since = now


class Runner(DiscoverRunner):
    """Names the slowest classes of tests after a run, so that what grows slow is seen when it does."""

    def get_resultclass(self) -> type[unittest.TextTestResult] | None:
        return super().get_resultclass() or _TimedResult

    def run_suite(self, suite: unittest.TestSuite, **kwargs: Any) -> Any:
        result = super().run_suite(suite, **kwargs)
        seconds = getattr(result, "seconds", {})
        slowest = sorted(seconds.items(), key=lambda item: -item[1])[: int(os.environ.get("YAMA_SLOWEST", _MOST))]
        if slowest and sum(seconds.values()) > 20:
            print(f"Slowest of {sum(seconds.values()):.0f} s:")
            for name, took in slowest:
                print(f"  {took:6.1f} s  {name}")
        return result
