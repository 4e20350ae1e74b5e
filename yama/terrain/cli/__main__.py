"""`python -m yama.terrain.cli`: a command as a process of its own."""

import os
import sys
from pathlib import Path

from yama.terrain import apart
from yama.terrain.cli import main


def compiled() -> Path:
    """Where compiled kernels are kept, unless the environment says it."""
    root = Path(__file__).resolve().parents[3]
    return root / "var" / "numba" if os.access(root, os.W_OK) else Path.home() / ".cache" / "yama" / "numba"


if __name__ == "__main__":
    kept = Path(os.environ.setdefault("NUMBA_CACHE_DIR", str(compiled())))
    kept.mkdir(parents=True, exist_ok=True)
    apart.from_here(compiled=next(kept.rglob("*.nbi"), None) is not None)
    sys.exit(main())
