"""How gunicorn serves Yama. Kernels are loaded once before the workers are forked, so no request waits for them."""

from __future__ import annotations

import os
import threading
from typing import Any

from yama.terrain.cluster import cores

bind = f"unix:{os.environ['YAMA_SOCKET']}"
workers = min(max(cores(), 2), 8)
threads = 6
worker_class = "gthread"
timeout = 120
graceful_timeout = 2
preload_app = True
control_socket_disable = True  # it would lie in the home of whoever runs this


def on_starting(_server: Any) -> None:
    """Run every kernel a request needs once, on a few cells."""
    from yama.terrain.warming import warm

    warm()


def post_worker_init(_worker: Any) -> None:
    """Have readers of files from outside at hand; nobody waits for them."""
    from yama.terrain import apart

    threading.Thread(target=apart.warm, daemon=True).start()
