"""The browser's tests, two at a time on one running Yama: `python -m tests.browser [MODULE ...]`.

What they share is the instance; each test has a project of its own. What takes the instance apart comes last, alone.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.browser.base import SHARED
from yama.launch import ROOT, Instance, prepare

LANES = (
    # these tell the depots how to behave
    ("test_join", "test_gather", "test_first_slice", "test_fit", "test_brought", "test_story", "test_deliver", "test_judge",
     "test_edit_lines", "test_doors"),
    ("test_build", "test_pair", "test_see", "test_mend", "test_layout", "test_drain"),
)  # fmt: skip
ALONE = ("test_lost_worker",)


def run(modules: tuple[str, ...], shared: dict[str, object]) -> tuple[int, str]:
    """Run the tests of some modules; returns the exit status and what was printed."""
    names = [f"tests.browser.{module}" for module in modules]
    done = subprocess.run(
        [sys.executable, str(ROOT / "manage.py"), "test", *names], cwd=ROOT, text=True, stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT, env={**os.environ, SHARED: json.dumps(shared)}, check=False,
    )  # fmt: skip
    return done.returncode, done.stdout


def main(asked: list[str]) -> int:
    """Run all of them, or those named; returns the exit status."""
    every = {path.stem for path in Path(__file__).parent.glob("test_*.py")}
    if missing := every - {name for lane in (*LANES, ALONE) for name in lane}:
        print(f"No lane runs {', '.join(sorted(missing))}.", file=sys.stderr)
        return 1
    os.environ["YAMA_JOB_SILENCE"] = "3"
    var = Path(tempfile.mkdtemp(prefix="yama-browser-"))
    failed = 0
    try:
        instance = Instance(prepare(var, 0))
        try:
            root = instance.start().split("/enter/")[0]
            place = instance.place
            shared = {"var": str(var), "root": root, "environment": place.environment, "control": place.secret["depot"]}
            lanes = [tuple(name for name in lane if not asked or name in asked) for lane in LANES]
            with ThreadPoolExecutor(len(lanes)) as pool:
                for status, printed in pool.map(lambda lane: run(lane, shared), [lane for lane in lanes if lane]):
                    print(printed, flush=True)
                    failed = failed or status
        finally:
            instance.stop()
        alone = tuple(name for name in ALONE if not asked or name in asked)
        if alone:
            status, printed = run(alone, {"var": str(var)})
            print(printed, flush=True)
            failed = failed or status
    finally:
        shutil.rmtree(var, ignore_errors=True)
    return failed


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
