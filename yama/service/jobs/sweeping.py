"""What no row speaks of and nobody has touched for a day goes: half-made files, folders of lost workers, uploads never taken in.

The rule: in a project's folder a file is kept while it is one of a holding's, the upload of a holding or of an open job, an
order's part that is still fetched, a quick look, or a package of a job. Holdings count until a week after they were deleted.
Everything else is left over from work that ended
badly. A day is longer than any job waits.
"""

from __future__ import annotations

import logging
import shutil
import time
from pathlib import Path

from django.conf import settings

from yama.service.delivery.work import package_path
from yama.service.depots.models import Part
from yama.service.holdings.deleted import clear
from yama.service.holdings.models import Holding, upload_path
from yama.service.jobs.models import Job
from yama.service.projects.models import Project

_log = logging.getLogger(__name__)

LIFETIME = 86_400.0
"""Seconds that what no row speaks of is kept."""
_PACKAGES = "packages"


def sweep() -> list[str]:
    """Delete what is left over; returns the names of it, with their project."""
    swept = [f"{name}, deleted a week ago" for name in clear()]
    for folder in settings.STORE_DIR.iterdir() if settings.STORE_DIR.is_dir() else ():
        if not (folder.name.isdigit() and folder.is_dir()):
            continue
        number = int(folder.name)
        known = _known(number) if Project.objects.filter(pk=number).exists() else set()
        packages = folder / _PACKAGES
        for path in (*folder.iterdir(), *(packages.iterdir() if packages.is_dir() else ())):
            quick = path.name.startswith("quick-") and path.suffix == ".tif"
            if path not in known and path != packages and not quick and _is_old(path):
                _remove(path)
                swept.append(f"{number}/{path.name}")
    if swept:
        _log.info("swept %s left-over files: %s", len(swept), ", ".join(swept[:20]))
    return swept


def _known(project_id: int) -> set[Path]:
    """Every file of a project that a row speaks of."""
    known: set[Path] = set()
    for holding in Holding.everything.filter(project_id=project_id):
        known |= {
            holding.cells_path,
            holding.points_path,
            holding.overview_path,
            holding.holes_path,
            holding.picture_path,
        }
        if holding.file_key:
            known.add(holding.upload_path)
    known |= {part.part_path for part in Part.objects.filter(order__project_id=project_id, holding=None)}
    for job in Job.objects.filter(project_id=project_id):
        if job.kind == "package":
            known.add(package_path(job))
        if job.state in Job.OPEN and job.request.get("file_key"):
            known.add(upload_path(project_id, job.request["file_key"]))
    return known


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
