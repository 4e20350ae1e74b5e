"""How gunicorn serves Yama. Kernels are loaded once before the workers are forked, so no request waits for them."""

from __future__ import annotations

import os
from typing import Any

bind = f"127.0.0.1:{os.environ.get('YAMA_PORT', '8000')}"
workers = 2
threads = 6
worker_class = "gthread"
timeout = 120
graceful_timeout = 5
preload_app = True


def on_starting(_server: Any) -> None:
    """Run every kernel a request needs once, on a few cells."""
    from yama.service.tiles.warm import warm

    warm()
