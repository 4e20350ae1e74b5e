"""What no row speaks of and nobody has touched for a day goes: half-made files, folders of lost workers, uploads never taken in.

The rule: in a project's folder a file is kept while an app says that a row speaks of it, or while it is a quick look. Everything
else is left over from work that ended badly. A day is longer than any job waits.
"""

from __future__ import annotations

import logging
import shutil
import time
from collections.abc import Callable
from pathlib import Path

from django.conf import settings

from yama.service.projects.models import Project

_log = logging.getLogger(__name__)

LIFETIME = 86_400.0
"""Seconds that what no row speaks of is kept."""
_PACKAGES = "packages"
Files = Callable[[int], set[Path]]
Forgetting = Callable[[], list[str]]
_files: list[Files] = []
_forgetting: list[Forgetting] = []


def keep_files(files: Files) -> None:
    """Let `files` name the files of a project that an app's rows speak of. Called by an app's `ready`."""
    _files.append(files)


def forget_by(forgetting: Forgetting) -> None:
    """Let `forgetting` delete, at each sweep, the rows whose time is over, and name them. Called by an app's `ready`."""
    _forgetting.append(forgetting)


def sweep() -> list[str]:
    """Delete what is left over; returns the names of it, with their project."""
    swept = [name for forget in _forgetting for name in forget()]
    for folder in settings.STORE_DIR.iterdir() if settings.STORE_DIR.is_dir() else ():
        if not (folder.name.isdigit() and folder.is_dir()):
            continue
        number = int(folder.name)
        known = (
            set().union(*(files(number) for files in _files)) if Project.objects.filter(pk=number).exists() else set()
        )
        packages = folder / _PACKAGES
        for path in (*folder.iterdir(), *(packages.iterdir() if packages.is_dir() else ())):
            quick = path.name.startswith("quick-") and path.suffix == ".tif"
            if path not in known and path != packages and not quick and _is_old(path):
                _remove(path)
                swept.append(f"{number}/{path.name}")
    if swept:
        _log.info("swept %s left-over files: %s", len(swept), ", ".join(swept[:20]))
    return swept


def _is_old(path: Path) -> bool:
    """Whether nobody has touched a file, or anything in a folder, for a day."""
    try:
        newest = max((each.stat().st_mtime for each in (path, *path.rglob("*"))), default=0.0)
    except FileNotFoundError:  # its job finished it meanwhile
        return False
    return time.time() - newest > LIFETIME


def _remove(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
